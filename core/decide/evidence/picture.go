package evidence

import (
	"fmt"

	"github.com/google/uuid"

	"unlatch/core/decide/diagnose"
	"unlatch/core/wire/picture"
)

// Picture is a snapshot or motion JPEG stream that was asked for.
type Picture struct {
	picture.Picture
	None      bool                `json:"none,omitempty" doc:"it was looked for, and there is none at any likely address"`
	Label     string              `json:"label,omitempty" doc:"of the sign-in that opened it"`
	Still     *uuid.UUID          `json:"still,omitempty"`
	Diagnosis *diagnose.Diagnosis `json:"diagnosis,omitempty"`
}

func (Picture) kind() Kind { return KindPicture }

func (b Picture) failure() *diagnose.Diagnosis { return b.Diagnosis }

func (b Picture) sum(_ string) string {
	if b.None {
		return fmt.Sprintf("No %s at any likely address", b.Kind)
	}
	if b.Kind == "mjpeg" {
		return fmt.Sprintf("Motion JPEG plays: %d × %d, %.4g pictures a second", b.Width, b.Height, b.FPS)
	}
	return fmt.Sprintf("Snapshot taken: %d × %d", b.Width, b.Height)
}
