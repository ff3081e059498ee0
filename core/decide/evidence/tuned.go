package evidence

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"unlatch/core/decide/diagnose"
	"unlatch/core/stream/tuning"
)

// Tuned is that a device's streams were set to a plan by its device service, and read back. Whether what comes is what was wanted, the
// proofs tell that are made afterwards.
type Tuned struct {
	Pending     bool                      `json:"pending,omitempty" doc:"recorded before it was sent; what came of it is not known yet"`
	Undone      bool                      `json:"undone,omitempty"`
	Plan        map[string]tuning.Stream  `json:"plan" doc:"by role"`
	Overlay     tuning.Overlay            `json:"overlay,omitzero"`
	Before      map[string]tuning.Encoder `json:"before" doc:"by role; what undo puts back"`
	AudioBefore map[string]tuning.Audio   `json:"audio_before,omitempty" doc:"by role; what undo puts back"`
	TextsBefore *[]tuning.Text            `json:"texts_before,omitempty" doc:"what undo draws again; missing where no text was touched"`
	Made        []string                  `json:"made,omitempty" doc:"names of the streams that were made, which undo takes away"`
	Has         map[string]tuning.Encoder `json:"has,omitempty" doc:"by role: how all streams were set when this was sent"`
	Wanted      map[string]tuning.Encoder `json:"wanted,omitempty" doc:"by role: the setting that was sent, rounded to what the device offers"`
	ReadBack    map[string]tuning.Encoder `json:"read_back,omitempty" doc:"by role"`
	Changes     []tuning.Change           `json:"changes,omitempty"`
	Refused     []tuning.Refusal          `json:"refused,omitempty"`
	SideEffects []string                  `json:"side_effects,omitempty"`
	Diagnosis   *diagnose.Diagnosis       `json:"diagnosis,omitempty"`
}

// State returns what undo puts back.
func (b Tuned) State() tuning.State {
	return tuning.State{Encoders: b.Before, Audio: b.AudioBefore, Texts: b.TextsBefore, Made: b.Made}
}

// SetState keeps what undo puts back.
func (b *Tuned) SetState(s tuning.State) {
	b.Before, b.AudioBefore, b.TextsBefore, b.Made = s.Encoders, s.Audio, s.Texts, s.Made
}

// Observation returns what this shows of the device's encoder budget; ok is false where nothing was sent that would.
func (b Tuned) Observation(device string) (o tuning.Observation, ok bool) {
	if b.Pending || b.Undone || b.Diagnosis != nil || len(b.ReadBack) == 0 || len(b.Has) == 0 {
		return o, false
	}
	o = tuning.Observation{Device: device, Wanted: maps.Clone(b.Has), Got: b.ReadBack}
	maps.Copy(o.Wanted, b.Wanted)
	return o, true
}

func (Tuned) kind() Kind { return KindTuned }

func (b Tuned) failure() *diagnose.Diagnosis { return b.Diagnosis }

func (b Tuned) sum(_ string) string {
	roles := strings.Join(slices.Sorted(maps.Keys(b.Plan)), " and ")
	switch {
	case b.Pending:
		return "Streams are about to be set: " + roles
	case b.Undone:
		return "Stream settings put back: " + roles
	}
	text := fmt.Sprintf("Streams set: %s, %d changes", roles, len(b.Changes))
	if len(b.Refused) > 0 {
		text += fmt.Sprintf(", %d refused", len(b.Refused))
	}
	return text
}
