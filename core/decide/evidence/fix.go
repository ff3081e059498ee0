package evidence

import (
	"fmt"

	"unlatch/core/decide/diagnose"
	"unlatch/core/wire/fix"
)

// Fix is a change that was made on the device so that it can be used, read back.
type Fix struct {
	Pending   bool                `json:"pending,omitempty" doc:"recorded before it was sent; what came of it is not known yet"`
	User      string              `json:"user,omitempty" doc:"of a stream user: its name"`
	Action    fix.Action          `json:"action"`
	Before    string              `json:"before" doc:"what undo puts back"`
	After     string              `json:"after"`
	Undone    bool                `json:"undone,omitempty"`
	Diagnosis *diagnose.Diagnosis `json:"diagnosis,omitempty"`
}

func (Fix) kind() Kind { return KindFix }

func (b Fix) failure() *diagnose.Diagnosis { return b.Diagnosis }

func (b Fix) sum(_ string) string {
	what := map[fix.Action]string{fix.Streams: "Stream service", fix.Clock: "Clock", fix.StreamUser: "Stream user"}[b.Action]
	text := fmt.Sprintf("%s: %s, before %s", what, b.After, b.Before)
	if b.Pending {
		return fmt.Sprintf("%s: about to be changed, before %s", what, b.Before)
	}
	if b.Undone {
		text = fmt.Sprintf("%s put back: %s", what, b.After)
	}
	return text
}
