package evidence

import (
	"fmt"

	"github.com/google/uuid"

	"unlatch/core/decide/diagnose"
)

// A Shot is a picture as it came.
type Shot struct {
	URL    string  `json:"url" doc:"where it came from in the end, without a sign-in"`
	Kind   string  `json:"kind" enum:"snapshot,mjpeg" doc:"one JPEG, or JPEGs without end"`
	Scheme string  `json:"scheme" doc:"how the sign-in was taken; none where none was asked for"`
	Width  int     `json:"width" doc:"pixels"`
	Height int     `json:"height" doc:"pixels"`
	Bytes  int     `json:"bytes" doc:"of one picture"`
	Frames int     `json:"frames" doc:"pictures received"`
	FPS    float64 `json:"fps,omitempty" doc:"pictures a second, of motion JPEG"`
	MS     float64 `json:"ms" doc:"from the request to the last byte of the first picture"`
}

// Picture is a snapshot or motion JPEG stream that was asked for.
type Picture struct {
	Shot
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
