package command

import (
	"encoding/json"
	"time"

	"github.com/google/uuid"

	"unlatch/core/decide/evidence"
	"unlatch/core/stream/camera"
	"unlatch/core/stream/recipe"
	"unlatch/core/stream/tuning"
	"unlatch/core/wire/target/hub"
)

// A Device is what to do with one device. Exactly one field is set.
type Device struct {
	Open    *Open           `json:"open,omitempty"`
	Address *camera.Network `json:"address,omitempty"`
	Claim   *Claim          `json:"claim,omitempty"`
	Fix     *Fix            `json:"fix,omitempty"`
	Mark    *Mark           `json:"mark,omitempty"`
	Cast    *Cast           `json:"cast,omitempty"`
	Tune    *Tune           `json:"tune,omitempty"`
	Place   *Place          `json:"place,omitempty"`
	Move    *Move           `json:"move,omitempty"`
	Show    *Show           `json:"show,omitempty"`
	Rule    *Rule           `json:"rule,omitempty"`
	Remove  *Remove         `json:"remove,omitempty"`
	Wake    *Wake           `json:"wake,omitempty"`
	Send    *Send           `json:"send,omitempty"`
}

// Alone reports whether nothing else may be done with the device meanwhile: whatever changes the device, or reads it to decide. Commands
// that are about a target alone keep each other out by the target.
func (d Device) Alone() bool {
	return d.Open != nil || d.Send != nil || d.Address != nil || d.Claim != nil || d.Fix != nil || d.Mark != nil ||
		d.Cast != nil || d.Tune != nil ||
		d.Place != nil && d.Place.Tune != nil
}

// Looks reports whether a command changes no device: opening latches signs in, asks and plays.
func (d Device) Looks() bool { return d.Open != nil || d.Wake != nil }

// Open opens the latches of a device as far as they go.
type Open struct {
	// Again plays streams again that are proven already.
	Again bool `json:"again,omitempty"`
	// Unattended work was begun by nobody: it goes on by itself after a wait, and sends no sign-in so that it can be read.
	Unattended bool `json:"unattended,omitempty"`
	// Retry sends again what the device has refused, within the guard's bound: a person has mended something on it.
	Retry bool `json:"retry,omitempty"`
}

// Claim gives a factory-fresh device its first account, or the account that it has from the factory a password of its own. The password
// is on the keyring before the command exists, so that a crash between keeping and sending locks nobody out.
type Claim struct {
	SignIn uuid.UUID `json:"sign_in"`
}

// Fix mends one thing on a device, or takes that back.
type Fix struct {
	Action evidence.FixAction `json:"action"`
	SignIn uuid.UUID          `json:"sign_in,omitzero"` // of a stream user: the keyring entry that the device shall take
	Undo   bool               `json:"undo,omitempty"`
}

// Mark has a camera show which one it is, for a while.
type Mark struct {
	How  evidence.Mark `json:"how"`
	Text string        `json:"text"`
	Back bool          `json:"back,omitempty"` // put back what stands, and do nothing else
}

// Cast measures whether the groups of a device's streams carry them, or changes how they are sent.
type Cast struct {
	Action evidence.CastAction            `json:"action"`
	Roles  []string                       `json:"roles"`            // of the streams; none for all that the device can send to a group
	Groups map[string]camera.GroupSetting `json:"groups,omitempty"` // to set, by role
	For    time.Duration                  `json:"for,omitempty"`    // to listen to each group; 0 for 2.5 s
}

// Tune sets the streams of a device to a plan, puts back what was before, or restarts the device.
type Tune struct {
	Plan    tuning.Plan `json:"plan,omitzero"`
	Undo    bool        `json:"undo,omitempty"`
	Restart bool        `json:"restart,omitempty"`
}

// Place puts a camera onto a target and asks the target for its picture.
type Place struct {
	Target uuid.UUID `json:"target"`
	// Replaces is the camera whose slot it takes over; the nil UUID for none.
	Replaces uuid.UUID `json:"replaces,omitzero"`
	// Again puts it right also where it stands already.
	Again bool `json:"again,omitempty"`
	// Tune is what its streams are set to first; nil for nothing.
	Tune *Tune `json:"tune,omitempty"`
}

// Move moves a camera that stands on a target to another slot of it. A camera that is there changes places with it.
type Move struct {
	Target uuid.UUID `json:"target"`
	Slot   string    `json:"slot"`
}

// Show has a target show a camera on a screen, and measures that.
type Show struct {
	Target uuid.UUID `json:"target"`
	Screen string    `json:"screen"`
}

// Rule sets when a hub shows a camera by itself; the zero hub.Rule takes that back.
type Rule struct {
	Target uuid.UUID `json:"target"`
	hub.Rule
}

// Remove takes a camera off a target.
type Remove struct {
	Target uuid.UUID `json:"target"`
}

// Send tells a device something on its maker's own page, or takes that back. The command comes along as it was when it was given.
type Send struct {
	Command  recipe.Command    `json:"command"`
	Partners []recipe.Command  `json:"partners,omitempty"` // that it must not be on with
	Values   map[string]string `json:"values,omitempty"`
	Undo     bool              `json:"undo,omitempty"`
}

// Wake goes on with a device whose wait has ended: it was locked, or held back so that it does not lock.
type Wake struct {
	Until time.Time `json:"until"` // tells one wait from another
}

// Name returns what the command is called, by its field.
func (d Device) Name() string {
	for _, c := range []struct {
		name string
		set  bool
	}{
		{"open", d.Open != nil}, {"address", d.Address != nil}, {"claim", d.Claim != nil}, {"fix", d.Fix != nil}, {"mark", d.Mark != nil},
		{"cast", d.Cast != nil}, {"tune", d.Tune != nil}, {"place", d.Place != nil}, {"move", d.Move != nil}, {"show", d.Show != nil},
		{"rule", d.Rule != nil}, {"remove", d.Remove != nil}, {"wake", d.Wake != nil},
		{"send", d.Send != nil},
	} {
		if c.set {
			return c.name
		}
	}
	return ""
}

// Waits reports whether the command spends its time waiting for a restart, an encoder to settle or a label to be read. Many more of those
// run at once than of the commands that try sign-ins, which learn from each other.
func (d Device) Waits() bool {
	return d.Address != nil || d.Mark != nil || d.Tune != nil || d.Send != nil
}

// AskedAbout reports whether others ask for the command by its device while it waits: which addresses are still to be given, and who is
// setting a camera's streams. Such a command is queued by itself from the beginning.
func (d Device) AskedAbout() bool { return d.Address != nil || d.Tune != nil }

// OnDevices is what to do with each of some devices.
type OnDevices struct {
	Devices []uuid.UUID `json:"devices"`
	Do      Device      `json:"do"`
}

// Grouped returns commands with what is the same of them once, in the order in which each is first said. Each device's own keep theirs.
func Grouped(list []OnDevice) ([]OnDevices, error) {
	var out []OnDevices
	at := map[string]int{}
	for _, x := range list {
		key, err := json.Marshal(x.Do)
		if err != nil {
			return nil, err
		}
		i, known := at[string(key)]
		if !known {
			i = len(out)
			at[string(key)], out = i, append(out, OnDevices{Do: x.Do})
		}
		out[i].Devices = append(out[i].Devices, x.Device)
	}
	return out, nil
}

// Each returns the same command for each of some devices.
func Each(devices []uuid.UUID, do Device) []OnDevice {
	out := make([]OnDevice, len(devices))
	for i, d := range devices {
		out[i] = OnDevice{Device: d, Do: do}
	}
	return out
}
