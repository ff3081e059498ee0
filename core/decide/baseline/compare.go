package baseline

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"github.com/google/uuid"
)

// A DeviceChange is how a device differs between two states.
type DeviceChange struct {
	Device uuid.UUID     `json:"device"`
	Title  string        `json:"title" doc:"as it is now, and of a device that is gone as it was"`
	Is     Presence      `json:"is" enum:"changed,new,gone"`
	Fields []FieldChange `json:"fields" doc:"of a device that has changed"`
}

// A Presence is in which of two states a device is.
type Presence string

const (
	Changed Presence = "changed" // in both
	New     Presence = "new"     // in the later one alone
	Gone    Presence = "gone"    // in the earlier one alone
)

// A FieldChange is one field that is not the same in two states.
type FieldChange struct {
	Field   Field  `json:"field"`
	Subject string `json:"subject,omitempty" doc:"the role of a stream, or the ID of a target"`
	Words   string `json:"words" doc:"what people call the field, with what it is of"`
	Was     string `json:"was,omitempty" doc:"missing where it was not known"`
	Is      string `json:"is,omitempty" doc:"missing where it is not known"`
}

// String returns the difference as a sentence.
func (d FieldChange) String() string {
	switch {
	case d.Was == "":
		return fmt.Sprintf("%s: nothing was known, now %s.", d.Words, d.Is)
	case d.Is == "":
		return fmt.Sprintf("%s: was %s, nothing is known now.", d.Words, d.Was)
	}
	return fmt.Sprintf("%s: was %s, is %s.", d.Words, d.Was, d.Is)
}

// Compare returns what differs from was to is: the devices that are gone or have changed in the order of was, then the new ones.
func Compare(was, is State) []DeviceChange {
	out := []DeviceChange{}
	later := make(map[uuid.UUID]*Device, len(is.Devices))
	for i := range is.Devices {
		later[is.Devices[i].ID] = &is.Devices[i]
	}
	for i := range was.Devices {
		old := &was.Devices[i]
		now, there := later[old.ID]
		delete(later, old.ID)
		if !there {
			out = append(out, DeviceChange{Device: old.ID, Title: old.Title, Is: Gone, Fields: []FieldChange{}})
			continue
		}
		if fields := compareFacts(old.Facts, now.Facts); len(fields) > 0 {
			out = append(out, DeviceChange{Device: now.ID, Title: now.Title, Is: Changed, Fields: fields})
		}
	}
	for i := range is.Devices {
		if d := &is.Devices[i]; later[d.ID] != nil {
			out = append(out, DeviceChange{Device: d.ID, Title: d.Title, Is: New, Fields: []FieldChange{}})
		}
	}
	return out
}

// order is that in which fields are told.
var order = []Field{Answers, Address, Endpoint, Serial, HardwareAddress, Maker, Model, Firmware, Certificate, SignIn, Clock, View,
	Plays, Path, Set, Codec, Size, Rate, Bitrate, KeyFrames, Sound, Transport, Slot, Given, Shows}

// compareFacts compares two lists of facts by field and subject.
func compareFacts(was, is []Fact) (out []FieldChange) {
	type key struct {
		Field   Field
		Subject string
	}
	later := make(map[key]Fact, len(is))
	for _, f := range is {
		later[key{f.Field, f.Subject}] = f
	}
	for _, old := range was {
		k := key{old.Field, old.Subject}
		now := later[k]
		delete(later, k)
		if !old.Field.alike(old, now) {
			out = append(out, FieldChange{Field: old.Field, Subject: old.Subject, Words: old.words(), Was: old.Value, Is: now.Value})
		}
	}
	for _, now := range is {
		if _, added := later[key{now.Field, now.Subject}]; added {
			out = append(out, FieldChange{Field: now.Field, Subject: now.Subject, Words: now.words(), Is: now.Value})
		}
	}
	slices.SortStableFunc(out, func(a, b FieldChange) int {
		return cmp.Or(cmp.Compare(slices.Index(order, a.Field), slices.Index(order, b.Field)), strings.Compare(a.Subject, b.Subject))
	})
	return out
}

// words returns what people call the fact's field, with what it is of.
func (f Fact) words() string {
	if f.Of == "" {
		return f.Field.Words()
	}
	return f.Field.Words() + ", " + f.Of
}
