package evidence

import (
	"unlatch/core/decide/diagnose"
	"unlatch/core/stream/camera"
	"unlatch/core/stream/tuning"
)

// A Mark is a way in which a camera shows which one it is.
type Mark string

// The marks.
const (
	Nudge Mark = "nudge" // it moves a little, and back
	Label Mark = "label" // it draws a text into its picture for a while
)

// Marked records that a camera was made to show which one it is, and was then put back to what it was before.
type Marked struct {
	Pending   bool                `json:"pending,omitempty" doc:"recorded before it was sent; what came of it is not known yet"`
	How       Mark                `json:"how"`
	Text      string              `json:"text,omitempty" doc:"of a label"`
	Source    string              `json:"source,omitempty" doc:"of a label: the token of the video source configuration"`
	Texts     []tuning.Text       `json:"texts,omitempty" doc:"of a label: what the camera drew before"`
	Profile   string              `json:"profile,omitempty" doc:"of a nudge: the token of the media profile"`
	At        *camera.Position    `json:"at,omitempty" doc:"of a nudge: where it looked before"`
	Diagnosis *diagnose.Diagnosis `json:"diagnosis,omitempty"`
}

// Sent reports whether something was sent to the camera, and with it what was there before is known.
func (b Marked) Sent() bool { return b.At != nil || b.Source != "" }

func (Marked) kind() Kind { return KindMarked }

func (b Marked) failure() *diagnose.Diagnosis { return b.Diagnosis }

func (b Marked) sum(_ string) string {
	what := map[Mark]string{Nudge: "Nudge", Label: "Label " + `"` + b.Text + `"`}[b.How]
	if b.Pending {
		return what + ": about to be made; what was before is kept here"
	}
	return what + ": made, and put back"
}
