package evidence

import "unlatch/core/decide/diagnose"

// Walked is a person's word that somebody who walked past the camera was seen in its picture, or that this was said in error.
type Walked struct {
	By     string `json:"by" doc:"who said so; the name as it was then"`
	Unsaid bool   `json:"unsaid,omitempty" doc:"it was taken back"`
}

func (Walked) kind() Kind { return KindWalked }

func (Walked) failure() *diagnose.Diagnosis { return nil }

func (b Walked) sum(_ string) string {
	if b.Unsaid {
		return "Walk test: " + b.By + " took back that somebody was seen"
	}
	return "Walk test: somebody was seen in its picture, says " + b.By
}
