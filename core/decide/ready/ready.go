// Package ready says whether a site can be handed over: what a person should mend or waive first, how complete each camera and target is,
// and which items of the checklist are done. Everything in it is derived from what is known of the site; only waivers and attestations
// are said by people.
package ready

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"unlatch/core/decide/latch"
	"unlatch/core/decide/outside"
	"unlatch/core/ground/address"
	"unlatch/core/stream/sighting"
)

// A Cause is a reason not to hand a site over. Its words stand in the message files of core/decide/words, under finding.CAUSE.
type Cause string

// The causes, the gravest first.
const (
	FactoryPassword Cause = "factory_password" // a device takes a password that it has from the factory, or lets anyone in
	ServiceOutside  Cause = "service_outside"  // a port of the outside address leads to where a device can be changed
	OpenStream      Cause = "open_stream"      // a stream plays without a sign-in
	ReadableSignIn  Cause = "readable_sign_in" // a sign-in is sent so that it can be read
	AdminGiven      Cause = "admin_given"      // a target has an administrator's sign-in
	OneSignIn       Cause = "one_sign_in"      // one sign-in opens all devices
	Unfinished      Cause = "unfinished"       // a device has not passed all its latches
	Drifted         Cause = "drifted"          // something is not as it was agreed on
	TargetSilent    Cause = "target_silent"    // a target does not answer
	ClockWrong      Cause = "clock_wrong"
	CertificateEnds Cause = "certificate_ends"
	FirmwareDiffers Cause = "firmware_differs" // within one model
	NoName          Cause = "no_name"
	NoPlace         Cause = "no_place" // a camera is marked on no site plan
	NotAgreed       Cause = "not_agreed"
	NotWatched      Cause = "not_watched"
)

// Causes are all causes in the order in which findings are told.
var Causes = []Cause{FactoryPassword, ServiceOutside, OpenStream, ReadableSignIn, AdminGiven, OneSignIn, Unfinished, Drifted, TargetSilent,
	ClockWrong, CertificateEnds, FirmwareDiffers, NoName, NoPlace, NotAgreed, NotWatched}

// Valid reports whether c is one of Causes.
func (c Cause) Valid() bool { return slices.Contains(Causes, c) }

// A Mend is what the button of a finding does.
type Mend string

// The mends. The zero Mend is a finding that only work at the device can mend.
const (
	MendClaim      Mend = "claim"       // give the device a password of its own
	MendClock      Mend = "clock"       // set the clock
	MendStreamUser Mend = "stream_user" // make a user that may do no more than watch
	MendOpen       Mend = "open"        // open latches
	MendName       Mend = "name"        // give names
	MendPlace      Mend = "place"       // mark on a site plan
	MendAgree      Mend = "agree"       // agree on the state of now
	MendWatch      Mend = "watch"       // have the site watched
	MendOutside    Mend = "outside"     // change the ports that lead inside
	MendDrift      Mend = "drift"       // put back or accept what has drifted
	MendTarget     Mend = "target"      // look at the target
)

var mends = map[Cause]Mend{FactoryPassword: MendClaim, ServiceOutside: MendOutside, AdminGiven: MendStreamUser, Unfinished: MendOpen,
	Drifted: MendDrift, TargetSilent: MendTarget, ClockWrong: MendClock, NoName: MendName, NoPlace: MendPlace, NotAgreed: MendAgree,
	NotWatched: MendWatch}

// Mend returns what the button of a finding of this cause does; "" for none.
func (c Cause) Mend() Mend { return mends[c] }

// A Finding is a cause with the things that it concerns.
type Finding struct {
	Cause  Cause   `json:"cause"`
	Things []Thing `json:"things" doc:"that are not waived"`
	Waived []Thing `json:"waived,omitempty"`
}

// A Thing is a device, a target, or the site itself, that a finding concerns.
type Thing struct {
	ID    uuid.UUID `json:"id" doc:"of the device, the target or the site"`
	Title string    `json:"title"`
	// Detail is the fact that shows it, in words that belong to no language: a user, a model, an address, a number of seconds.
	Detail string  `json:"detail,omitempty"`
	Waiver *Waiver `json:"waiver,omitempty"`
}

// A Waiver says that somebody hands a thing over all the same.
type Waiver struct {
	By     string    `json:"by"`
	At     time.Time `json:"at"`
	Reason string    `json:"reason"`
}

// A Waived names what a waiver is for.
type Waived struct {
	Cause Cause     `json:"cause"`
	Thing uuid.UUID `json:"thing"`
}

// A Site is what is known of a site.
type Site struct {
	ID      uuid.UUID
	Title   string
	Now     time.Time
	Ranges  address.Ranges
	Devices []*latch.Device
	Targets []Target
	Placed  map[uuid.UUID]bool // the devices that are marked on a site plan
	Outside outside.Form
	Never   map[string]string // places that must not be led outside, with what they are
	Agreed  bool              // a state was agreed on
	Watched bool              // it is looked at in rounds
	Drifts  []Thing           // what is not as it was agreed on
	Waivers map[Waived]Waiver
}

// A Target is what is known of a target.
type Target struct {
	ID     uuid.UUID
	Name   string
	Silent bool // it did not answer when it was asked last
}

// endsWithin is how near the end of a certificate has to be to be told: whoever takes over should not begin with it.
const endsWithin = 90 * 24 * time.Hour

// leastForOneSignIn is from how many devices on one sign-in that opens them all is told.
const leastForOneSignIn = 3

// own returns the devices that belong to the site and that are handed over: cameras and recorders that may be connected to.
func (s *Site) own() []*latch.Device {
	return slices.DeleteFunc(slices.Clone(s.Devices), func(d *latch.Device) bool {
		return !d.Status.InScope() || d.Status.Device.Kind != sighting.Camera && d.Status.Device.Kind != sighting.Recorder
	})
}

// Findings returns what should be mended or waived before the site is handed over, in the order of Causes. A finding whose things are all
// waived is among them, with no Things.
func (s *Site) Findings() []Finding {
	found := map[Cause][]Thing{}
	add := func(c Cause, t Thing) { found[c] = append(found[c], t) }
	own := s.own()
	for _, d := range own {
		deviceFindings(d, s.Now, add)
		if d.Status.Device.Kind == sighting.Camera && d.Via == nil && !s.Placed[d.ID] {
			add(NoPlace, thing(d, ""))
		}
	}
	oneSignIn(own, s, add)
	firmware(own, add)
	for _, t := range s.Targets {
		if t.Silent {
			add(TargetSilent, Thing{ID: t.ID, Title: t.Name})
		}
	}
	for _, m := range s.Outside.Maps {
		if what := s.Never[m.Inside]; what != "" {
			add(ServiceOutside, Thing{ID: m.Device, Title: s.titleOf(m.Device), Detail: m.Inside})
		}
	}
	found[Drifted] = s.Drifts
	self := Thing{ID: s.ID, Title: s.Title}
	if !s.Agreed && len(own) > 0 {
		add(NotAgreed, self)
	}
	if !s.Watched && len(own) > 0 {
		add(NotWatched, self)
	}
	return s.sorted(found)
}

// sorted returns findings in the order of Causes, with what is waived apart.
func (s *Site) sorted(found map[Cause][]Thing) []Finding {
	out := []Finding{}
	for _, c := range Causes {
		f := Finding{Cause: c, Things: []Thing{}}
		for _, t := range found[c] {
			if w, waived := s.Waivers[Waived{c, t.ID}]; waived {
				t.Waiver = &w
				f.Waived = append(f.Waived, t)
			} else {
				f.Things = append(f.Things, t)
			}
		}
		if len(f.Things)+len(f.Waived) > 0 {
			out = append(out, f)
		}
	}
	return out
}

// Open returns how many findings have things that are not waived.
func Open(list []Finding) (n int) {
	for _, f := range list {
		if len(f.Things) > 0 {
			n++
		}
	}
	return n
}

func (s *Site) titleOf(device uuid.UUID) string {
	for _, d := range s.Devices {
		if d.ID == device {
			return d.Title
		}
	}
	return device.String()
}

func thing(d *latch.Device, detail string) Thing {
	return Thing{ID: d.ID, Title: d.Title, Detail: detail}
}

// oneSignIn finds a sign-in that opens every device of the site.
func oneSignIn(own []*latch.Device, s *Site, add func(Cause, Thing)) {
	opened := map[uuid.UUID]int{}
	label, n := "", 0
	for _, d := range own {
		in := d.Status.SignedIn
		if in == nil || in.Diagnosis != nil || in.SignIn == uuid.Nil {
			continue
		}
		n++
		opened[in.SignIn]++
		label = in.Label
	}
	if n >= leastForOneSignIn && len(opened) == 1 {
		add(OneSignIn, Thing{ID: s.ID, Title: s.Title, Detail: label})
	}
}

// firmware finds models of which devices have different firmware.
func firmware(own []*latch.Device, add func(Cause, Thing)) {
	byModel := map[string][]*latch.Device{}
	for _, d := range own {
		if model := d.Status.Model(); model != "" && d.Status.SignedIn.Info.Firmware != "" {
			byModel[model] = append(byModel[model], d)
		}
	}
	for _, list := range byModel {
		newest := slices.MaxFunc(list, func(a, b *latch.Device) int {
			return compareVersions(a.Status.SignedIn.Info.Firmware, b.Status.SignedIn.Info.Firmware)
		}).Status.SignedIn.Info.Firmware
		for _, d := range list {
			if has := d.Status.SignedIn.Info.Firmware; has != newest {
				add(FirmwareDiffers, thing(d, has+" < "+newest))
			}
		}
	}
}

// compareVersions compares firmware versions by their numbers, part by part: 1.10 is newer than 1.9. What is no number is compared as text.
func compareVersions(a, b string) int {
	parts := func(s string) []string {
		return strings.FieldsFunc(s, func(r rune) bool { return r == '.' || r == '-' || r == '_' || r == ' ' })
	}
	x, y := parts(a), parts(b)
	for i := 0; i < min(len(x), len(y)); i++ {
		left, right := strings.TrimLeft(x[i], "0"), strings.TrimLeft(y[i], "0")
		if digits(left) && digits(right) {
			if c := cmp.Or(cmp.Compare(len(left), len(right)), cmp.Compare(left, right)); c != 0 {
				return c
			}
		} else if c := cmp.Compare(x[i], y[i]); c != 0 {
			return c
		}
	}
	return cmp.Compare(len(x), len(y))
}

func digits(s string) bool { return strings.Trim(s, "0123456789") == "" }
