package evidence

import (
	"fmt"

	"unlatch/core/decide/diagnose"
)

// An FixAction names a fix.
type FixAction string

// The fixes.
const (
	FixStreams    FixAction = "streams"     // switch the stream service on
	FixClock      FixAction = "clock"       // set the clock right
	FixStreamUser FixAction = "stream_user" // make a user that may do no more than watch
)

// Fix is a change that was made on the device so that it can be used, read back.
type Fix struct {
	Pending   bool                `json:"pending,omitempty" doc:"recorded before it was sent; what came of it is not known yet"`
	User      string              `json:"user,omitempty" doc:"of a stream user: its name"`
	Action    FixAction           `json:"action"`
	Before    string              `json:"before" doc:"what undo puts back"`
	After     string              `json:"after"`
	Undone    bool                `json:"undone,omitempty"`
	Diagnosis *diagnose.Diagnosis `json:"diagnosis,omitempty"`
}

func (Fix) kind() Kind { return KindFix }

func (b Fix) failure() *diagnose.Diagnosis { return b.Diagnosis }

func (b Fix) sum(_ string) string {
	what := map[FixAction]string{FixStreams: "Stream service", FixClock: "Clock", FixStreamUser: "Stream user"}[b.Action]
	text := fmt.Sprintf("%s: %s, before %s", what, b.After, b.Before)
	if b.Pending {
		return fmt.Sprintf("%s: about to be changed, before %s", what, b.Before)
	}
	if b.Undone {
		text = fmt.Sprintf("%s put back: %s", what, b.After)
	}
	return text
}
