package act

import (
	"strings"

	"github.com/google/uuid"

	"unlatch/core/decide/command"
	"unlatch/core/decide/evidence"
	"unlatch/core/ground/signin"
	"unlatch/core/ground/wiretext"
	"unlatch/core/wire/target"
)

// A Breadth says how far a person's agreement reaches.
type Breadth string

// ForDevices, ForModels and ForSite: the devices that were selected, all of their models on the site, or everything on the site.
const (
	ForDevices Breadth = "devices"
	ForModels  Breadth = "models"
	ForSite    Breadth = "site"
)

// AgreeReadable agrees that sign-ins may go out to devices so that they can be read, and goes on with the devices.
type AgreeReadable struct {
	Site    uuid.UUID
	Devices []uuid.UUID
	Breadth Breadth
	Weaker  bool // also take a weaker scheme than a device has taken before, on these devices alone
}

// About implements Act.
func (a AgreeReadable) About() About {
	return About{Name: "agree-readable", Right: Work, Site: a.Site, Devices: a.Devices, WithStates: true}
}

// Readable is one agreement that sign-ins may go out so that they can be read: to a device, to a model on the act's site, or to everything
// on it.
type Readable struct {
	Device uuid.UUID // the nil UUID for a model or a site
	Model  string    // "" for a device or a site
	Clear  bool      // it covers what goes out without TLS too
}

// Decide implements Act.
func (a AgreeReadable) Decide(f Facts) (Outcome, error) {
	out := Outcome{Work: opening("Go on with "+command.Cameras(len(a.Devices)), a.Devices, command.Open{}),
		Line: Line{Subject: f.names(a.Devices), Devices: a.Devices, After: map[Breadth]string{ForDevices: "for these devices",
			ForModels: "for their models on the site", ForSite: "for the site"}[a.Breadth]}}
	for _, r := range readable(f, a.Devices, a.Breadth) {
		out.Keep = append(out.Keep, r)
	}
	if !a.Weaker {
		return out, nil
	}
	for _, id := range a.Devices {
		d := f.Devices[id]
		w := d.Status.Wanted()
		if w == nil || w.Before == "" || w.Service == string(signin.Target) {
			continue
		}
		service := w.Service
		before := d.Status.Schemes[service]
		out.Keep = append(out.Keep, Found{Device: id, Subject: service, Body: evidence.Scheme{Scheme: w.Scheme, Before: before}})
		out.Line.Before, out.Line.After = before, out.Line.After+", also "+w.Scheme
	}
	return out, nil
}

// readable returns the agreements that cover devices as wide as a person said. One for a model or a site goes as far as the furthest that a
// device of the selection needs.
func readable(f Facts, devices []uuid.UUID, breadth Breadth) (out []Readable) {
	var furthest signin.Agreement
	for _, id := range devices {
		furthest = max(furthest, f.Devices[id].Status.AgreesTo())
	}
	seen := map[Readable]bool{}
	for _, id := range devices {
		d := f.Devices[id]
		r := Readable{Clear: furthest == signin.InClear}
		model := d.Status.Device.Model()
		switch {
		case breadth == ForModels && model != "":
			r.Model = model
		case breadth != ForSite: // also a device that tells no model
			r.Device, r.Clear = id, d.Status.AgreesTo() == signin.InClear
		}
		if !seen[r] {
			seen[r] = true
			out = append(out, r)
		}
	}
	return out
}

// WithdrawReadable withdraws every agreement that covers a device, also those for its model and its site.
type WithdrawReadable struct{ Site, Device uuid.UUID }

// NoReadable ends the agreements that cover a device.
type NoReadable struct {
	Device uuid.UUID
	Model  string
	// OpenedUnder are the keys of the evidence by which it would be taken for one that has read the sign-in already.
	OpenedUnder []string
}

// About implements Act.
func (a WithdrawReadable) About() About {
	return About{Name: "withdraw-agreement", Right: Work, Site: a.Site, Devices: []uuid.UUID{a.Device}, WithStates: true}
}

// Decide implements Act.
func (a WithdrawReadable) Decide(f Facts) (Outcome, error) {
	d := f.Devices[a.Device]
	end := NoReadable{Device: a.Device, Model: d.Status.Device.Model()}
	for key := range d.Status.OpenedUnder {
		end.OpenedUnder = append(end.OpenedUnder, key)
	}
	return Outcome{Keep: []any{end}, Line: Line{Subject: d.Title, Devices: []uuid.UUID{a.Device}}}, nil
}

// Consent agrees to connect to one stray, at its present address, for half an hour.
type Consent struct {
	Site, Device uuid.UUID
	Addr         string // as the person named it
	Reason       string
}

// About implements Act.
func (a Consent) About() About {
	return About{Name: "consent", Right: Work, Site: a.Site, Devices: []uuid.UUID{a.Device}, WithStates: true}
}

// Decide implements Act.
func (a Consent) Decide(f Facts) (Outcome, error) {
	d := f.Devices[a.Device]
	a.Reason = wiretext.Line(strings.TrimSpace(a.Reason), 300)
	if !d.Status.Device.Stray || a.Addr != d.Addr || a.Reason == "" {
		return Outcome{}, refuse("no_consent", "The consent must name the stray's present address and a reason.",
			"Look at the stray again: its address may have changed.")
	}
	return Outcome{Keep: []any{a}, Line: Line{Subject: d.Title + " at " + d.Addr, Devices: []uuid.UUID{a.Device}, After: a.Reason}}, nil
}

// WithdrawConsent takes the consent to connect to a stray back.
type WithdrawConsent struct{ Site, Device uuid.UUID }

// About implements Act.
func (a WithdrawConsent) About() About {
	return About{Name: "withdraw-consent", Right: Work, Site: a.Site, Devices: []uuid.UUID{a.Device}}
}

// Decide implements Act.
func (a WithdrawConsent) Decide(f Facts) (Outcome, error) {
	return Outcome{Keep: []any{a}, Line: Line{Subject: f.names([]uuid.UUID{a.Device}), Devices: []uuid.UUID{a.Device}}}, nil
}

// AgreeForTarget agrees that a secret may go to a target so that it can be read, and goes on with the cameras that wait for it, or looks at
// the target.
type AgreeForTarget struct {
	Site, Target uuid.UUID
	Secret       target.Secret
	To           *target.Identity // whom the person was shown, by address, certificate and scheme; nil for whoever answers there first
	Devices      []uuid.UUID      // cameras to go on with
}

// About implements Act.
func (a AgreeForTarget) About() About {
	return About{Name: "agree-for-target", Right: Work, Site: a.Site, Targets: []uuid.UUID{a.Target}, Devices: a.Devices}
}

// Decide implements Act. What was agreed is bound to what the target says of itself besides what the person was shown. A target that has
// not been asked yet is agreed on as whoever answers there first.
func (a AgreeForTarget) Decide(f Facts) (Outcome, error) {
	t := f.Targets[a.Target]
	var to *target.Identity
	if a.To != nil && t.About != nil {
		x := *a.To
		x.Kind, x.Maker, x.Model, x.Serial = t.About.Kind, t.About.Maker, t.About.Model, t.About.Serial
		to = &x
	}
	out := Outcome{Keep: []any{Agreed{Target: a.Target, To: to, Secrets: []target.Secret{a.Secret}}},
		Line: Line{Subject: t.Name, Target: a.Target, Devices: a.Devices, After: string(a.Secret)}}
	if len(a.Devices) > 0 {
		out.Work = opening("Go on with "+command.Cameras(len(a.Devices)), a.Devices, command.Open{Again: true})
	} else {
		out.Work = looking([]uuid.UUID{a.Target}, "Look at "+t.Name, true)
	}
	return out, nil
}

// WithdrawForTarget takes back what was agreed for a target: one secret, or all.
type WithdrawForTarget struct {
	Site, Target uuid.UUID
	Secret       target.Secret // "" for all
}

// About implements Act.
func (a WithdrawForTarget) About() About {
	return About{Name: "withdraw-target-agreement", Right: Work, Site: a.Site, Targets: []uuid.UUID{a.Target}}
}

// Decide implements Act.
func (a WithdrawForTarget) Decide(f Facts) (Outcome, error) {
	before := "everything"
	if a.Secret != "" {
		before = string(a.Secret)
	}
	return Outcome{Keep: []any{a}, Line: Line{Subject: f.Targets[a.Target].Name, Target: a.Target, Before: before}}, nil
}

// TakeTargetCertificate says that a target's certificate is its own.
type TakeTargetCertificate struct {
	Site, Target uuid.UUID
	SHA256       string // in hex, of the certificate that the person has seen
}

// About implements Act.
func (a TakeTargetCertificate) About() About {
	return About{Name: "take-target-certificate", Right: Work, Site: a.Site, Targets: []uuid.UUID{a.Target}}
}

// Decide implements Act.
func (a TakeTargetCertificate) Decide(f Facts) (Outcome, error) {
	t := f.Targets[a.Target]
	if t.Pin != a.SHA256 {
		return Outcome{}, refuse("no_certificate", "That is not the certificate that the target is known by.",
			"Look at the target again and at what it shows now.")
	}
	return Outcome{Keep: []any{a}, Line: Line{Subject: t.Name, Target: a.Target, After: a.SHA256}}, nil
}
