package server

import "unlatch/core/latch"

// undoable are the remedies on a device that can be taken back.
func undoable(st *latch.Status) []remedyView {
	var out []remedyView
	for _, r := range st.Remedies {
		out = append(out, remedyView{Action: string(r.Action), Before: r.Before, After: r.After})
	}
	return out
}

// remedyView is a change that Unlatch made on the device.
type remedyView struct {
	Action string `json:"action" enum:"streams,clock,stream_user"`
	Before string `json:"before"`
	After  string `json:"after"`
}
