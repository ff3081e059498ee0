// Package baseline holds the state that people agreed on for the devices of a site, and compares it with what is known later.
//
// A state is a list of facts, each one field of a device, of one of its streams or of one of its placements. Facts are compared by
// field: texts exactly, measures with the tolerance that the field allows, so that a quiet scene or a busy one is no change.
package baseline

import (
	"encoding/json"
	"fmt"
	"slices"

	"github.com/google/uuid"

	"unlatch/core/decide/latch"
	"unlatch/core/stream/camera"
)

// Version is that of the form in which states are written.
const Version = 1

// A State is what was known of some devices at one time.
type State struct {
	Version int      `json:"version"`
	Devices []Device `json:"devices"`
	Targets []Target `json:"targets,omitempty"`
}

// A Device is what was known of one device.
type Device struct {
	ID    uuid.UUID `json:"id"`
	Title string    `json:"title"`
	Facts []Fact    `json:"facts"`
	// Settings are how the streams were set by the device's own word, by role, so that they can be put back. States that were taken before
	// they were kept have none.
	Settings map[string]camera.Settings `json:"settings,omitempty"`
	// Via is the recorder that it is reached through; the nil UUID for none.
	Via uuid.UUID `json:"via,omitzero"`
	// Unfinished is the latch that was not open yet; "" for none.
	Unfinished latch.Name `json:"unfinished,omitempty"`
	// Waived are the latches that somebody passed over.
	Waived []latch.Name `json:"waived,omitempty"`
}

// Value returns what is known of a field and its subject; "" where nothing is.
func (d *Device) Value(f Field, subject string) string {
	for _, x := range d.Facts {
		if x.Field == f && x.Subject == subject {
			return x.Value
		}
	}
	return ""
}

// A Fact is what is known of one field.
type Fact struct {
	Field Field `json:"field"`
	// Subject is the role of a stream or the ID of a target; "" for fields of the device itself.
	Subject string `json:"subject,omitempty"`
	// Of is what people call the subject.
	Of string `json:"of,omitempty"`
	// Value is the fact as people read it, never "". Number is what it is compared by, for the fields that are measured, in their unit.
	Value  string  `json:"value"`
	Number float64 `json:"number,omitempty"`
}

// A VersionError says that a state was written by a newer Unlatch than this one.
type VersionError struct{ Version int }

func (e *VersionError) Error() string {
	return fmt.Sprintf("this agreed state has form %d, and this Unlatch reads forms up to %d", e.Version, Version)
}

// Read reads a state that was written as JSON. Its error is a *VersionError where a newer program wrote it.
func Read(raw []byte) (s State, err error) {
	var form struct {
		Version int `json:"version"`
	}
	if err := json.Unmarshal(raw, &form); err != nil {
		return s, err
	}
	if form.Version > Version {
		return s, &VersionError{form.Version}
	}
	return s, json.Unmarshal(raw, &s)
}

// Of returns the state of devices as they are known now, in their order.
func Of(devices []*latch.Device) State {
	s := State{Version: Version, Devices: make([]Device, len(devices))}
	for i, d := range devices {
		s.Devices[i] = Device{ID: d.ID, Title: d.Title, Facts: facts(d), Unfinished: d.Status.At()}
		if d.Via != nil {
			s.Devices[i].Via = *d.Via
		}
		for _, st := range d.Status.Streams {
			if st.Claimed != (camera.Settings{}) {
				if s.Devices[i].Settings == nil {
					s.Devices[i].Settings = map[string]camera.Settings{}
				}
				s.Devices[i].Settings[st.Role] = st.Claimed
			}
		}
		for _, l := range d.Status.Latches {
			if l.State == latch.Waived {
				s.Devices[i].Waived = append(s.Devices[i].Waived, l.Name)
			}
		}
	}
	return s
}

// Belonging returns the devices that belong to a site's state: all but the strays, which nobody has agreed to connect to. A device that
// was in the state before still belongs to it when it has strayed.
func Belonging(devices []*latch.Device, before State) []*latch.Device {
	return slices.DeleteFunc(slices.Clone(devices), func(d *latch.Device) bool {
		return !d.Status.InScope() && !slices.ContainsFunc(before.Devices, func(was Device) bool { return was.ID == d.ID })
	})
}

// Unfinished returns how many of the devices were not finished.
func (s State) Unfinished() (n int) {
	for _, d := range s.Devices {
		if d.Unfinished != "" {
			n++
		}
	}
	return n
}
