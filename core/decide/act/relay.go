package act

import (
	"fmt"
	"regexp"
	"strings"

	"github.com/google/uuid"

	"unlatch/core/ground/signin"
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
}

// A RelayForm is how a stream is served on.
type RelayForm struct {
	Role string `json:"role" enum:"main,sub,third" doc:"which of the camera's streams"`
	// Path is what stands behind the host in the URL.
	Path   string `json:"path" minLength:"1" maxLength:"100" doc:"what stands behind the host in the URL, such as footbridge/main"`
	For    string `json:"for" maxLength:"100" doc:"who takes it, such as the name of a recorder"`
	Always bool   `json:"always,omitempty" doc:"the session with the camera lasts also while nobody takes the stream"`
	Most   int    `json:"most,omitempty" minimum:"0" maximum:"200" doc:"how many may take it at once; 0 for the usual 16"`
}

// relayPath is what can stand in every client's URL as it is.
var relayPath = regexp.MustCompile(`^[a-z0-9][a-z0-9._-]*(/[a-z0-9][a-z0-9._-]*){0,3}$`)

// About implements Act.
func (a PutRelay) About() About {
	return About{Name: "put-relay", Right: Work, Site: a.Site, Devices: []uuid.UUID{a.Device}}
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
	if strings.TrimSpace(a.For) == "" {
		return Outcome{}, refuse("no_taker", "It is not said who takes the stream.", "Name the recorder, the panel or the program that does.")
	}
	after := fmt.Sprintf("%s as %s for %s", a.Role, a.Path, a.For)
	if a.Always {
		after += ", always on"
	}
	return Outcome{Keep: []any{a}, Line: Line{Subject: d.Title, Devices: []uuid.UUID{a.Device}, DeviceName: d.Title, After: after}}, nil
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
