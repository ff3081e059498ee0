package act

import (
	"errors"
	"fmt"
	"time"

	"github.com/google/uuid"

	"unlatch/core/decide/fit"
	"unlatch/core/decide/latch"
	"unlatch/core/ground/hours"
	"unlatch/core/wire/rtmp"
)

// A PushForm is how a stream is sent to a live platform.
type PushForm struct {
	To    string `json:"to" maxLength:"300" doc:"the ingest address, such as rtmps://ingest.example/live, without the stream key"`
	Clear bool   `json:"clear,omitempty" doc:"whoever makes it agrees that the stream key goes out unencrypted, which rtmp:// means"`
	// Pin is the SHA-256 of the platform's certificate in hex.
	Pin string `json:"pin,omitempty" pattern:"^([0-9a-f]{64})?$" doc:"SHA-256 of its certificate, where no authority vouches for that"`
	// Silence is sent as sound where the stream has none.
	Silence bool       `json:"silence,omitempty" doc:"silence is sent where the stream has no sound: some platforms take nothing without"`
	Hours   hours.Week `json:"hours,omitzero" doc:"when it is sent; missing for always"`
	Paused  bool       `json:"paused,omitempty" doc:"nothing is sent until this is taken back"`
}

// sentForm returns the stream as the relay hands it on; known is false where the camera's was not proven.
func (a *PutRelay) sentForm(d *latch.Device) (s fit.Stream, known bool) {
	s, known = d.Status.FitStreams()[a.Role]
	if !known {
		return s, false
	}
	return fit.Through(s, a.Form, 0), true
}

// paged refuses what no page plays, and a worker that serves none.
func (a *PutRelay) paged(f Facts, d *latch.Device) error {
	if !a.Page {
		return nil
	}
	if a.worker(f).Pages == "" {
		return refuse("no_pages", "The worker that serves streams of this site serves none to web pages.",
			"Set relay-pages in its settings, such as 0.0.0.0:8590.")
	}
	if s, known := a.sentForm(d); known && s.Codec != "H.264" {
		return refuse("page_codec", fmt.Sprintf("Browsers play H.264, and this stream is %s.", s.Codec), "Have it turned into H.264.")
	}
	return nil
}

// pushed refuses an address that cannot be sent to, a key that would go out unencrypted without anybody's word, and what platforms do not
// take.
func (a *PutRelay) pushed(d *latch.Device) error {
	p := a.Push
	if p == nil {
		return nil
	}
	to, err := rtmp.ParseIngest(p.To)
	if err != nil {
		return badIngest(err)
	}
	if !to.Secure && !p.Clear {
		return refuse("clear_key", "To an address that begins with rtmp:// the stream key goes out unencrypted.",
			"Use the platform's address that begins with rtmps://, or agree to it.")
	}
	if p.To = to.String(); p.Hours.Check() != nil {
		return refuse("bad_hours", p.Hours.Check().Error(), "Correct the hours, or leave them out.")
	}
	s, known := a.sentForm(d)
	switch {
	case !known:
	case s.Codec != "H.264":
		return refuse("push_codec", fmt.Sprintf("Live platforms take H.264, and this stream is %s.", s.Codec), "Have it turned into H.264.")
	case s.Audio != "" && s.Audio != "none" && s.Audio != "AAC":
		return refuse("push_sound", fmt.Sprintf("Live platforms take sound in AAC, and this stream's is %s.", s.Audio),
			"Have the sound turned into AAC, or leave it out.")
	}
	return nil
}

// badIngest refuses an ingest address.
func badIngest(err error) error {
	if errors.Is(err, rtmp.ErrKeyInAddress) {
		return refuse("key_in_address", "The last part of the ingest address looks like the stream key, which is a secret.",
			"Take it out of the address and type it as the stream key: it is kept encrypted.")
	}
	return refuse("bad_ingest", "The ingest address cannot be read: "+err.Error()+".", "Copy it from the platform's page, without the key.")
}

// StopPushes stops all that is sent to live platforms of a site, until each is begun again.
type StopPushes struct{ Site uuid.UUID }

// About implements Act.
func (a StopPushes) About() About { return About{Name: "stop-pushes", Right: Work, Site: a.Site} }

// Decide implements Act.
func (a StopPushes) Decide(f Facts) (Outcome, error) {
	return Outcome{Keep: []any{a}, Line: Line{Subject: f.Site.Name}}, nil
}

// PausePush stops what is sent of one relay to a live platform, or begins it again.
type PausePush struct {
	RelayName
	Paused bool
}

// About implements Act.
func (a PausePush) About() About { return a.about("pause-push", Work) }

// Decide implements Act.
func (a PausePush) Decide(f Facts) (Outcome, error) {
	l, err := a.line(f)
	if l.Before, l.After = "stopped", "sent"; a.Paused {
		l.Before, l.After = l.After, l.Before
	}
	return Outcome{Keep: []any{a}, Line: l}, err
}

// MostPage is for how long an address for web pages may open its stream.
const MostPage = 400 * 24 * time.Hour

// MakePage makes an address under which web pages play a relay until a time.
type MakePage struct {
	RelayName
	On    bool // the relay is served to web pages
	Until time.Time
}

// About implements Act.
func (a MakePage) About() About { return a.about("make-page", Reveal) }

// Decide implements Act.
func (a MakePage) Decide(f Facts) (Outcome, error) {
	l, err := a.line(f)
	switch {
	case err != nil:
		return Outcome{}, err
	case !a.On:
		return Outcome{}, refuse("no_page", "This relay is not served to web pages.", "Have it served to web pages first.")
	case !a.Until.After(f.Now) || a.Until.Sub(f.Now) > MostPage:
		return Outcome{}, refuse("bad_end", "The address must end within 400 days.", "Choose a time from now on.")
	}
	l.After = "until " + a.Until.UTC().Format("2006-01-02 15:04") + " UTC"
	return Outcome{Line: l}, nil
}
