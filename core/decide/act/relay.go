package act

import (
	"errors"
	"fmt"
	"net"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/google/uuid"

	"unlatch/core/decide/doctor"
	"unlatch/core/decide/fit"
	"unlatch/core/decide/latch"
	"unlatch/core/ground/signin"
	"unlatch/core/ground/streamurl"
	"unlatch/core/stream/conversion"
)

// PutRelay has a stream of a camera served on by the workers that reach it, under a path and with a sign-in of its own, or changes that.
type PutRelay struct {
	ID     uuid.UUID
	Site   uuid.UUID
	Device uuid.UUID
	RelayForm
	// User and Secret open the stream; a new relay has both, and an old one keeps them where Secret is empty.
	User   string
	Secret signin.Secret
	// Cores is what turning the stream into its form costs, where that is known; Decide sets it.
	Cores float64
	// FacePort is the port of the relay's ONVIF face; 0 where it has none. Decide sets it.
	FacePort int
	// Key is the stream key of the platform that it is pushed to; an old relay keeps its own where Key is empty.
	Key signin.Secret
}

// A RelayForm is how a stream is served on.
type RelayForm struct {
	Role string `json:"role" enum:"main,sub,third" doc:"which of the camera's streams"`
	// Path is what stands behind the host in the URL.
	Path   string           `json:"path" minLength:"1" maxLength:"100" doc:"what stands behind the host in the URL, such as footbridge/main"`
	For    string           `json:"for" maxLength:"100" doc:"who takes it, such as the name of a recorder"`
	Always bool             `json:"always,omitempty" doc:"the session with the camera lasts also while nobody takes the stream"`
	Most   int              `json:"most,omitempty" minimum:"0" maximum:"200" doc:"how many may take it at once; 0 for the usual 16"`
	Form   conversion.Shape `json:"form,omitzero" doc:"what it is turned into; missing where it goes on as it comes"`
	// Target is the target that is given this stream in place of the camera's own; the nil UUID for none.
	Target uuid.UUID `json:"target,omitzero" doc:"the target that is given this stream in place of the camera's own"`
	// Face gives it an ONVIF device of its own, for recorders that take nothing else.
	Face bool `json:"face,omitempty" doc:"with an ONVIF device of its own, for recorders that take nothing else"`
	Page bool `json:"page,omitempty" doc:"also served to web pages, by HLS and WebRTC, at addresses that end"`
	// Push is the live platform that it is sent to; nil for none.
	Push *PushForm `json:"push,omitempty" doc:"the live platform that the stream is sent to"`
	// At is where a worker serves it, which stands in the URL.
	At string `json:"at,omitempty" maxLength:"100" doc:"host and port of the worker that serves it; missing for the first that does"`
}

// A Serving is a worker of a site that serves streams on.
type Serving struct {
	At    string            // host and port
	Rates *conversion.Rates // what converting costs there; nil where that is not known yet
	// Taken is what conversions of the site's relays take, in cores by relay. Others is what those of other sites take together.
	Taken  map[uuid.UUID]float64
	Others float64
	Shared bool // it serves streams of other sites, too
	// Faces are the ports that ONVIF faces may have there; none where the worker makes none. FacesTaken are those of other relays.
	Faces      doctor.Ports
	FacesTaken map[int]uuid.UUID
	// Pages is the address under which the worker serves streams to web pages; "" where it serves none.
	Pages string
}

// relayPath is what can stand in every client's URL as it is.
var relayPath = regexp.MustCompile(`^[a-z0-9][a-z0-9._-]*(/[a-z0-9][a-z0-9._-]*){0,3}$`)

// About implements Act.
func (a PutRelay) About() About {
	out := About{Name: "put-relay", Right: Work, Site: a.Site, Devices: []uuid.UUID{a.Device}, WithStates: true, WithServing: true}
	if a.Target != uuid.Nil {
		out.Targets = []uuid.UUID{a.Target}
	}
	return out
}

// Decide implements Act.
func (a PutRelay) Decide(f Facts) (Outcome, error) {
	d := f.Devices[a.Device]
	if d == nil {
		return Outcome{}, &MissingError{IDs: []uuid.UUID{a.Device}}
	}
	if !relayPath.MatchString(a.Path) || strings.Contains(a.Path, "/track") {
		return Outcome{}, refuse("bad_path", fmt.Sprintf("%q is no path for a stream.", a.Path),
			"Use small letters, digits and hyphens, in parts with / between, such as footbridge/main.")
	}
	if a.Target != uuid.Nil {
		a.For = f.Targets[a.Target].Name
	}
	if strings.TrimSpace(a.For) == "" {
		return Outcome{}, refuse("no_taker", "The taker of the stream has no name.", "Name the recorder, the panel or the program that does.")
	}
	if err := a.served(f, d); err != nil {
		return Outcome{}, err
	}
	if err := a.afforded(f, d); err != nil {
		return Outcome{}, err
	}
	if err := a.faced(f); err != nil {
		return Outcome{}, err
	}
	if err := a.paged(f, d); err != nil {
		return Outcome{}, err
	}
	if err := a.pushed(d); err != nil {
		return Outcome{}, err
	}
	after := fmt.Sprintf("%s as %s for %s", a.Role, a.Path, a.For)
	if !a.Form.IsZero() {
		after += ": " + a.Form.String()
	}
	if a.Always {
		after += ", always on"
	}
	if a.Face {
		after += ", with an ONVIF face"
	}
	if a.Page {
		after += ", for web pages"
	}
	if a.Push != nil {
		after += ", sent to " + a.Push.To
	}
	return Outcome{Keep: []any{a}, Line: Line{Subject: d.Title, Devices: []uuid.UUID{a.Device}, DeviceName: d.Title, After: after}}, nil
}

// noWorker refuses a relay that nobody would serve.
var noWorker = &Refusal{Cause: "no_worker", Detail: "No worker serves streams of this site.",
	Fix: "Start one with: unlatch worker --relay 0.0.0.0:8554, or set relay in the server's settings."}

// served chooses the worker that serves the stream, and refuses a stream that is one of its relays: it would be taken from itself.
func (a *PutRelay) served(f Facts, d *latch.Device) error {
	if a.At == "" && len(f.Serving) > 0 {
		a.At = f.Serving[0].At
	}
	if a.At == "" && (a.Target != uuid.Nil || !a.Form.IsZero() || a.Push != nil) {
		return noWorker
	}
	for _, s := range d.Status.Streams {
		u, err := streamurl.Parse(s.URL)
		if s.Role != a.Role || err != nil {
			continue
		}
		for _, w := range f.Serving {
			if net.JoinHostPort(u.Host, strconv.Itoa(u.DialPort())) == w.At {
				return refuse("relay_of_relay", fmt.Sprintf("The %s stream of %s is itself a relay of Unlatch.", a.Role, d.Title),
					"Serve the stream of the camera behind it on.")
			}
		}
	}
	return nil
}

// worker returns the worker that serves the stream; one that makes nothing where there is none.
func (a *PutRelay) worker(f Facts) Serving {
	if i := slices.IndexFunc(f.Serving, func(w Serving) bool { return w.At == a.At }); i >= 0 {
		return f.Serving[i]
	}
	return Serving{}
}

// afforded refuses a form that cannot be, or that takes more of the worker than conversions may.
func (a *PutRelay) afforded(f Facts, d *latch.Device) error {
	if err := a.Form.Check(); err != nil {
		var e *conversion.ShapeError
		errors.As(err, &e)
		return refuse("bad_form", e.Problem, e.Fix)
	}
	w := a.worker(f)
	if a.Form.IsZero() || w.Rates == nil {
		return nil
	}
	source := d.Status.FitStreams()[a.Role].Source()
	cores, err := w.afford(source, a.Form, a.ID)
	if over := (*conversion.BudgetError)(nil); errors.As(err, &over) {
		return refuse("over_budget", over.Error(), over.Fix())
	}
	a.Cores = cores
	return err
}

// faced gives the relay's face the first port that is free; it keeps the one that it has.
func (a *PutRelay) faced(f Facts) error {
	if !a.Face {
		return nil
	}
	w := a.worker(f)
	if w.Faces.Last == 0 {
		return refuse("no_faces", "The worker that serves streams of this site makes no ONVIF faces.",
			"Set relay-faces in its settings, such as 0.0.0.0:8580-8599.")
	}
	for port := w.Faces.First; port <= w.Faces.Last; port++ {
		if w.FacesTaken[port] == a.ID {
			a.FacePort = port
			return nil
		}
	}
	for port := w.Faces.First; port <= w.Faces.Last; port++ {
		if _, taken := w.FacesTaken[port]; !taken {
			a.FacePort = port
			return nil
		}
	}
	return refuse("faces_taken", fmt.Sprintf("All ports for ONVIF faces, %d to %d, are taken.", w.Faces.First, w.Faces.Last),
		"Remove a relay with a face, or give the worker more ports by relay-faces.")
}

// siteShare is the part of a worker's budget for conversions that one site may take if the worker serves several. The rest is for the
// others.
const siteShare = 0.75

// afford returns what a form costs beside the other relays of the worker, as if all were taken at once.
func (w Serving) afford(s conversion.Source, f conversion.Shape, except uuid.UUID) (float64, error) {
	own := 0.0
	for id, cores := range w.Taken {
		if id != except {
			own += cores
		}
	}
	cores, err := w.Rates.Afford(s, f, own+w.Others)
	if err != nil || !w.Shared {
		return cores, err
	}
	share := *w.Rates
	share.Budget *= siteShare
	cores, err = share.Afford(s, f, own)
	if over := (*conversion.BudgetError)(nil); errors.As(err, &over) {
		over.OfSite = true
	}
	return cores, err
}

// A RelayName says which relay an act is on.
type RelayName struct {
	ID     uuid.UUID
	Site   uuid.UUID
	Device uuid.UUID
	Path   string
}

func (n RelayName) about(name Name, right Right) About {
	return About{Name: name, Right: right, Site: n.Site, Devices: []uuid.UUID{n.Device}}
}

// line begins the line of an act on the relay. Its error is a *MissingError where the camera is not there.
func (n RelayName) line(f Facts) (Line, error) {
	d := f.Devices[n.Device]
	if d == nil {
		return Line{}, &MissingError{IDs: []uuid.UUID{n.Device}}
	}
	return Line{Subject: d.Title, Devices: []uuid.UUID{n.Device}, DeviceName: d.Title}, nil
}

// DeleteRelay has a stream served on no more.
type DeleteRelay struct{ RelayName }

// About implements Act.
func (a DeleteRelay) About() About { return a.about("delete-relay", Work) }

// Decide implements Act.
func (a DeleteRelay) Decide(f Facts) (Outcome, error) {
	l, err := a.line(f)
	l.Before = a.Path
	return Outcome{Keep: []any{a}, Line: l}, err
}

// RevealRelay shows the sign-in that opens a relay.
type RevealRelay struct{ RelayName }

// About implements Act.
func (a RevealRelay) About() About { return a.about("reveal-relay", Reveal) }

// Decide implements Act.
func (a RevealRelay) Decide(f Facts) (Outcome, error) {
	l, err := a.line(f)
	l.Subject = a.Path
	return Outcome{Line: l}, err
}

// A RelayCost is what it costs a worker to serve a stream on in a form.
type RelayCost struct {
	Words string `json:"words" doc:"the form in words"`
	At    string `json:"at,omitempty" doc:"host and port of the worker that would serve it; missing where none serves the site"`
	// Cores is what it costs in processor cores of that worker, where Known.
	Cores  float64 `json:"cores"`
	Known  bool    `json:"known" doc:"the cost is known: the worker has measured it, and the stream was proven"`
	Budget float64 `json:"budget,omitempty" doc:"cores that conversions of that worker may take in all"`
	Free   float64 `json:"free,omitempty" doc:"of these"`
	// Problem is why it cannot be, and Fix what to do; "" where it can.
	Problem string `json:"problem,omitempty"`
	Fix     string `json:"fix,omitempty"`
}

// CostOfRelay returns what it costs the first worker to serve a stream on in a form.
func CostOfRelay(s fit.Stream, form conversion.Shape, serving []Serving) RelayCost {
	out := RelayCost{Words: form.String(), Known: form.IsZero()}
	if bad := (*conversion.ShapeError)(nil); errors.As(form.Check(), &bad) {
		out.Problem, out.Fix = bad.Problem, bad.Fix
		return out
	}
	if len(serving) == 0 {
		out.Problem, out.Fix = noWorker.Detail, noWorker.Fix
		return out
	}
	w := serving[0]
	out.At = w.At
	if w.Rates == nil {
		return out
	}
	out.Cores, out.Known = w.Rates.Cost(s.Source(), form)
	out.Budget, out.Free = w.Rates.Budget, w.Rates.Budget
	for _, cores := range w.Taken {
		out.Free = max(0, out.Free-cores)
	}
	_, err := w.afford(s.Source(), form, uuid.Nil)
	if over := (*conversion.BudgetError)(nil); errors.As(err, &over) {
		out.Problem, out.Fix = over.Error(), over.Fix()
	}
	return out
}

// A RelayOffer is a relay by which a target would take a camera, with what that costs.
type RelayOffer struct {
	fit.Offer
	RelayCost
	// Only says that no setting of the camera would do.
	Only bool `json:"only,omitempty" doc:"no setting of the camera would do"`
}

// OfferRelay returns the relay by which a target would take a camera that it does not take as it is; nil where none would do, or no
// worker serves.
func OfferRelay(s *latch.Status, t latch.Target, serving []Serving) *RelayOffer {
	if len(serving) == 0 || t.Intake == nil || t.Through {
		return nil
	}
	_, port, _ := net.SplitHostPort(serving[0].At)
	at, _ := strconv.Atoi(port)
	x := *t.Intake
	x.Name = t.Name
	streams := s.FitStreams()
	offers := fit.ByRelay(streams, x, at)
	if len(offers) == 0 {
		return nil
	}
	return &RelayOffer{Offer: offers[0], RelayCost: CostOfRelay(streams[offers[0].Role], offers[0].Form, serving),
		Only: s.FittingOn(t).Verdict == latch.Cannot}
}
