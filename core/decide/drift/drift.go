// Package drift says how a site differs from the state that was agreed on, and why.
//
// A Drift is one way in which one device differs: its cause, the fields that changed, and the other causes that the same evidence allows.
// Find compares a device with what was agreed on of it. Group puts drifts with one cause together, so that eleven cameras behind a dead
// switch are one finding. Causes and fields are kept; the sentences of words.go are made when they are shown.
//
// The package decides nothing about when to look and tells nobody: it is given what is known, and has no clock.
package drift

import (
	"slices"

	"github.com/google/uuid"

	"unlatch/core/decide/baseline"
	"unlatch/core/decide/latch"
	"unlatch/core/ground/trouble"
	"unlatch/core/stream/picturematch"
)

// A Cause is why a device is not as it was agreed on.
type Cause string

// The causes that concern a device itself.
const (
	Silent      Cause = "silent"       // nothing answers at its address
	Factory     Cause = "factory"      // it was reset: it lets anyone in
	Password    Cause = "password"     // it refuses the sign-in that opened it
	OtherSignIn Cause = "sign_in"      // another sign-in opens it
	Replaced    Cause = "replaced"     // another device answers in its place
	Claimed     Cause = "claimed"      // something at another address says that it is this device, which still answers
	Swapped     Cause = "swapped"      // it and another camera of the site have changed places
	Moved       Cause = "moved"        // it has another address
	Firmware    Cause = "firmware"     // it has another firmware
	Clock       Cause = "clock"        // its clock is wrong
	Certificate Cause = "certificate"  // it shows another certificate
	Black       Cause = "black"        // its picture is black
	Covered     Cause = "covered"      // something stands before its lens
	Turned      Cause = "turned"       // it looks at another place
	Blurred     Cause = "out_of_focus" // its picture is not sharp any more
	NotAgreed   Cause = "not_agreed"   // nobody has agreed on it: it is new at the site
)

// The causes that concern its streams.
const (
	NotPlaying Cause = "not_playing" // a stream does not play
	Settings   Cause = "settings"    // its streams are set otherwise
	Smaller    Cause = "smaller"     // the picture is smaller than before, and is set as before
	Slower     Cause = "slower"      // fewer pictures come
	Starved    Cause = "bitrate"     // far fewer or far more bits come
	Soundless  Cause = "sound"       // its sound has gone or is another
	Path       Cause = "path"        // the stream has another URL
	GroupTaken Cause = "group_taken" // another device sends to its group
	Way        Cause = "transport"   // it plays another way than before
	RelayDown  Cause = "relay_down"  // a stream is not served on
)

// The causes that concern what targets hold of it, and the targets themselves.
const (
	SlotLost     Cause = "slot_lost"     // its slot is empty
	SlotTaken    Cause = "slot_taken"    // another camera is in its slot
	WrongPicture Cause = "wrong_picture" // the target shows another camera for it
	NotShown     Cause = "not_shown"     // the target has the camera and not its picture
	OtherSlot    Cause = "other_slot"    // it stands in another slot, or has another stream
	TargetSilent Cause = "target_silent" // the target cannot be asked
	OtherTarget  Cause = "other_target"  // another machine answers in the target's place
)

// A Hint is something in the evidence that speaks for a cause.
type Hint string

// The hints.
const (
	SaidGoodbye  Hint = "said_goodbye"  // by WS-Discovery
	LetsAnyoneIn Hint = "lets_anyone"   // it was asked without a sign-in and answered
	AllReset     Hint = "all_settings"  // every stream is set otherwise, as after a reset
	WithFirmware Hint = "with_firmware" // the settings changed with the firmware
	SameModel    Hint = "same_model"    // what answers is of the same model
	Unknown      Hint = "not_known"     // nothing says yet that it is the same device
	ByUs         Hint = "by_us"         // somebody has changed it with Unlatch since it was agreed on
)

// A Drift is one way in which a device is no longer as it was agreed on.
type Drift struct {
	// Device is the nil UUID where a target is concerned and no device.
	Device uuid.UUID `json:"device,omitzero"`
	Title  string    `json:"title"`
	Cause  Cause     `json:"cause"`
	// Subject is the role of a stream or the ID of a target; "" for the device itself. Of is what people call it.
	Subject string                 `json:"subject,omitempty"`
	Of      string                 `json:"of,omitempty"`
	Fields  []baseline.FieldChange `json:"fields"`
	// Also are the other causes that the same evidence allows, the likeliest first.
	Also  []Cause `json:"also,omitempty"`
	Hints []Hint  `json:"hints,omitempty"`
	// With is the other device of a swap, or the one that answers in its place; the nil UUID where that is not known.
	With uuid.UUID `json:"with,omitzero"`
	// Shared is what it has in common with the drifts that it may go together with; "" for nothing.
	Shared string `json:"shared,omitempty"`
}

// Key tells the drifts of a site from each other.
func (d Drift) Key() string { return d.Device.String() + " " + string(d.Cause) + " " + d.Subject }

// An Agreed is a state that was agreed on, indexed.
type Agreed struct {
	byID     map[uuid.UUID]*baseline.Device
	bySerial map[string]uuid.UUID
	targets  map[uuid.UUID]baseline.Target
}

// Index prepares a state for Find.
func Index(s baseline.State) *Agreed {
	a := &Agreed{byID: map[uuid.UUID]*baseline.Device{}, bySerial: map[string]uuid.UUID{}, targets: map[uuid.UUID]baseline.Target{}}
	for _, t := range s.Targets {
		a.targets[t.ID] = t
	}
	for i := range s.Devices {
		d := &s.Devices[i]
		a.byID[d.ID] = d
		if v := d.Value(baseline.Serial, ""); v != "" {
			a.bySerial[v] = d.ID
		}
	}
	return a
}

// Has reports whether a device was agreed on.
func (a *Agreed) Has(device uuid.UUID) bool { return a.byID[device] != nil }

// Devices returns the devices that were agreed on.
func (a *Agreed) Devices() []uuid.UUID {
	out := make([]uuid.UUID, 0, len(a.byID))
	for id := range a.byID {
		out = append(out, id)
	}
	return out
}

// Find returns how a device differs from what was agreed on of it, the gravest first; nothing where it was not agreed on.
func (a *Agreed) Find(now *latch.Device) []Drift {
	was := a.byID[now.ID]
	if was == nil {
		return nil
	}
	is := baseline.Of([]*latch.Device{now}).Devices[0]
	changes := baseline.Compare(baseline.State{Devices: []baseline.Device{*was}}, baseline.State{Devices: []baseline.Device{is}})
	f := finder{agreed: a, was: was, now: now, shared: commonGround(now)}
	if len(changes) > 0 { // what nothing was known of when it was agreed on cannot have drifted
		f.fields = slices.DeleteFunc(changes[0].Fields, func(c baseline.FieldChange) bool { return c.Was == "" })
	}
	f.find()
	slices.SortStableFunc(f.out, func(x, y Drift) int { return int(y.Cause.Severity()) - int(x.Cause.Severity()) })
	return f.out
}

// A finder finds the drifts of one device. Each cause takes its fields out of those that changed.
type finder struct {
	agreed *Agreed
	was    *baseline.Device
	now    *latch.Device
	shared string
	fields []baseline.FieldChange
	out    []Drift
}

// take removes and returns the changes of some fields.
func (f *finder) take(which func(baseline.FieldChange) bool) (taken []baseline.FieldChange) {
	f.fields = slices.DeleteFunc(f.fields, func(c baseline.FieldChange) bool {
		if which(c) {
			taken = append(taken, c)
			return true
		}
		return false
	})
	return taken
}

// takeFields is take by name.
func (f *finder) takeFields(fields ...baseline.Field) []baseline.FieldChange {
	return f.take(func(c baseline.FieldChange) bool { return slices.Contains(fields, c.Field) })
}

// takeOwn takes the changes in what the device itself says. Changes on its targets and in its view are handled separately.
func (f *finder) takeOwn() []baseline.FieldChange {
	return f.take(func(c baseline.FieldChange) bool { return !ofTarget(c.Field) && c.Field != baseline.View })
}

// withoutUnknown leaves out the changes to a value that is not known now.
func withoutUnknown(list []baseline.FieldChange) []baseline.FieldChange {
	return slices.DeleteFunc(list, func(c baseline.FieldChange) bool { return c.Is == "" })
}

// has returns the change of a field; nil where it has not changed.
func (f *finder) has(field baseline.Field) *baseline.FieldChange {
	i := slices.IndexFunc(f.fields, func(c baseline.FieldChange) bool { return c.Field == field })
	if i < 0 {
		return nil
	}
	return &f.fields[i]
}

// add adds a drift of the device.
func (f *finder) add(d Drift) {
	d.Device, d.Title = f.now.ID, f.now.Title
	f.out = append(f.out, d)
}

// find finds them in an order in which one cause explains others: of a device that is silent nothing else is known.
func (f *finder) find() {
	st := &f.now.Status
	reach := st.Latch(latch.Reachable)
	if reach.Diagnosis != nil && reach.Diagnosis.Cause == trouble.AddressConflict {
		f.add(Drift{Cause: Replaced, Fields: f.takeFields(baseline.Answers), Hints: []Hint{Unknown}})
	}
	f.claimed()
	f.moved()
	if c := f.has(baseline.Answers); c != nil && c.Is == "no" {
		d := Drift{Cause: Silent, Fields: append(f.takeFields(baseline.Answers), f.notShown()...), Shared: f.shared}
		if !st.LeftAt.IsZero() {
			d.Hints = append(d.Hints, SaidGoodbye)
		}
		f.add(d)
		f.onTargets()
		return
	}
	if f.identity() || f.signIn() {
		f.view()
		f.onTargets()
		return
	}
	f.firmware()
	if c := f.has(baseline.Certificate); c != nil && c.Is != "" {
		f.addField(Certificate, "certificate", baseline.Certificate)
	}
	f.addField(Clock, "clock", baseline.Clock)
	f.streams()
	f.view()
	f.onTargets()
}

// addField adds a drift if one of the fields has changed.
func (f *finder) addField(cause Cause, shared string, fields ...baseline.Field) {
	if taken := f.takeFields(fields...); len(taken) > 0 {
		f.add(Drift{Cause: cause, Fields: taken, Shared: shared})
	}
}

// claimed finds what says that it is the device while the device still answers. Only a person can tell which is the right one.
func (f *finder) claimed() {
	d := Drift{Cause: Claimed, Hints: []Hint{Unknown}}
	for _, c := range f.now.Status.Claims {
		d.Fields = append(d.Fields, baseline.FieldChange{Field: baseline.Address, Subject: c.Addr.String(), Words: "Said to be at",
			Was: f.now.Addr, Is: c.Addr.String()})
	}
	if len(d.Fields) > 0 {
		f.add(d)
	}
}

func (f *finder) moved() {
	if taken := f.takeFields(baseline.Address); len(taken) > 0 && taken[0].Is != "" {
		d := Drift{Cause: Moved, Fields: taken, Shared: "address"}
		if f.now.Status.Before.IsValid() {
			d.Hints, d.Also = []Hint{Unknown}, []Cause{Replaced}
		}
		f.add(d)
	}
}

// identity finds that another device answers in its place, which explains whatever else differs.
func (f *finder) identity() bool {
	serial := f.has(baseline.Serial)
	if serial == nil || serial.Is == "" {
		f.takeFields(baseline.Serial, baseline.Endpoint, baseline.HardwareAddress) // what was never told, or is not told now, is no change
		return false
	}
	d := Drift{Cause: Replaced}
	if other, ok := f.agreed.bySerial[serial.Is]; ok && other != f.now.ID {
		d.Cause, d.With, d.Shared = Swapped, other, pair(f.now.ID, other)
	}
	if f.has(baseline.Model) == nil {
		d.Hints = append(d.Hints, SameModel)
	}
	d.Fields = f.takeOwn()
	f.add(d)
	return true
}

// pair is the same for two devices whichever is named first.
func pair(a, b uuid.UUID) string {
	if a.String() > b.String() {
		a, b = b, a
	}
	return "pair " + a.String() + " " + b.String()
}

// signIn finds that the sign-in that was agreed on does not open it. Nothing more is known of it then.
func (f *finder) signIn() bool {
	c := f.has(baseline.SignIn)
	if c == nil || c.Is == "" {
		f.takeFields(baseline.SignIn)
		return false
	}
	in := f.now.Status.SignedIn
	switch {
	case in != nil && in.Open:
		d := Drift{Cause: Factory, Hints: []Hint{LetsAnyoneIn}}
		d.Fields = f.takeOwn()
		f.add(d)
		return true
	case in != nil && in.Diagnosis != nil:
		d := Drift{Cause: Password, Also: []Cause{Factory, Replaced}, Shared: "sign-in " + c.Was}
		d.Fields = f.takeOwn()
		f.add(d)
		return true
	}
	f.addField(OtherSignIn, "", baseline.SignIn)
	return false
}

// firmware finds another firmware, and with it the settings that came with it.
func (f *finder) firmware() {
	taken := withoutUnknown(f.takeFields(baseline.Firmware, baseline.Model, baseline.Maker))
	if len(taken) == 0 {
		return
	}
	d := Drift{Cause: Firmware, Fields: taken, Shared: "firmware " + taken[0].Is}
	if set := f.takeFields(baseline.Set); len(set) > 0 {
		d.Fields = append(d.Fields, set...)
		d.Hints = append(d.Hints, WithFirmware)
		f.takeFields(measured...)
	}
	f.add(d)
}

// measured are the fields of a stream that follow from how it is set.
var measured = []baseline.Field{baseline.Codec, baseline.Size, baseline.Rate, baseline.Bitrate, baseline.KeyFrames}

// streams finds what is otherwise of each stream: first that it does not play, then how it is set, then how it measures. How streams are
// set is one drift of the device, whichever of them are set otherwise.
func (f *finder) streams() {
	var set []baseline.FieldChange
	allSet := f.allSet()
	for _, role := range f.roles() {
		of := func(fields ...baseline.Field) []baseline.FieldChange {
			return f.take(func(c baseline.FieldChange) bool { return c.Subject == role && slices.Contains(fields, c.Field) })
		}
		add := func(cause Cause, fields []baseline.FieldChange) {
			if len(fields) > 0 {
				f.add(Drift{Cause: cause, Subject: role, Of: role, Fields: fields, Shared: f.streamGround(cause)})
			}
		}
		if plays := of(baseline.Plays); len(plays) > 0 && plays[0].Is == "no" {
			of(append(measured, baseline.Sound, baseline.Transport)...) // nothing was measured
			cause := NotPlaying
			if m, ok := f.now.Status.Multicast[role]; ok && m.Diagnosis != nil && m.Diagnosis.Cause == trouble.GroupShared {
				cause = GroupTaken
			}
			add(cause, append(plays, f.notShown()...))
		}
		add(Path, of(baseline.Path))
		if now := of(baseline.Set); len(now) > 0 && now[0].Is != "" {
			set = append(append(set, now...), of(measured...)...)
			continue
		}
		add(Smaller, withoutUnknown(of(baseline.Codec, baseline.Size)))
		add(Slower, withoutUnknown(of(baseline.Rate, baseline.KeyFrames)))
		add(Starved, withoutUnknown(of(baseline.Bitrate)))
		add(Soundless, withoutUnknown(of(baseline.Sound)))
		add(Way, withoutUnknown(of(baseline.Transport)))
	}
	if len(set) > 0 {
		d := Drift{Cause: Settings, Fields: set}
		if allSet {
			d.Hints = append(d.Hints, AllReset)
		}
		f.add(d)
	}
}

// roles are those of the streams that anything is told of, in order.
func (f *finder) roles() (out []string) {
	for _, c := range f.fields {
		if c.Subject != "" && !ofTarget(c.Field) && !slices.Contains(out, c.Subject) {
			out = append(out, c.Subject)
		}
	}
	return out
}

// allSet reports whether every stream of the device is set otherwise than was agreed on.
func (f *finder) allSet() bool {
	now := map[string]bool{}
	for _, s := range f.now.Status.Streams {
		now[s.Role] = s.Claimed == f.was.Settings[s.Role]
	}
	for role := range f.was.Settings {
		if same, there := now[role]; !there || same {
			return false
		}
	}
	return len(f.was.Settings) > 1
}

// streamGround is what streams that differ alike have in common: the way that they come.
func (f *finder) streamGround(cause Cause) string {
	if cause == NotPlaying || cause == Slower || cause == Way {
		return f.shared
	}
	return ""
}

// causeOfView is why a camera shows something else than its view.
var causeOfView = map[picturematch.Obstacle]Cause{picturematch.Black: Black, picturematch.Covered: Covered, picturematch.Turned: Turned,
	picturematch.Blurred: Blurred}

func (f *finder) view() {
	taken := f.takeFields(baseline.View)
	if len(taken) == 0 || f.now.Status.View == nil {
		return
	}
	d := Drift{Cause: causeOfView[f.now.Status.View.Obstacle], Fields: taken}
	switch d.Cause {
	case "":
		return
	case Turned:
		d.Also = []Cause{Replaced, Covered}
		if with := f.now.Status.View.Shows; with != uuid.Nil {
			d.Cause, d.With, d.Shared, d.Also = Swapped, with, pair(f.now.ID, with), []Cause{Turned}
		}
	case Black:
		d.Also = []Cause{Covered}
	}
	f.add(d)
}

// commonGround is what devices that go silent together have in common: the recorder that they are reached through, or their subnet.
func commonGround(d *latch.Device) string {
	if d.Via != nil {
		return "recorder " + d.Via.String()
	}
	if a := d.Status.Device.Addr; a.IsValid() {
		bits := 24
		if a.Is6() {
			bits = 64
		}
		if p, err := a.Prefix(bits); err == nil {
			return "subnet " + p.String()
		}
	}
	return ""
}
