package latch

import (
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/diagnose"
	"unlatch/core/decide/evidence"
	"unlatch/core/ground/certificate"
	"unlatch/core/ground/trouble"
	"unlatch/core/stream/camera"
	"unlatch/core/stream/sighting"
)

// Each state of a device has one next step, with a button that does something and a reason.
func TestNext(t *testing.T) {
	heard := func() *story { return (&story{}).add("ws-discovery", heardAt(addr)) }
	reached := func() *story { return heard().add("", evidence.Reached{Addr: addr}) }
	signedIn := func() *story { return reached().add("", evidence.SignedIn{Label: "Fitter"}) }
	placed := func() *story {
		return upToProven().add(strongroom.String(), evidence.Placed{Slot: "slot_01", URL: mainURL})
	}
	for name, c := range map[string]struct {
		story  *story
		intent Intent
		action string
		says   string
	}{
		"heard":              {heard(), Intent{}, "open", "has not been asked yet"},
		"reached":            {reached(), Intent{}, "open", "No sign-in has been tried yet"},
		"signed in":          {signedIn(), Intent{}, "open", "stream URLs are not known yet"},
		"located":            {signedIn().add("", streams("192.0.2.11")), Intent{}, "open", "have not been played yet"},
		"proven":             {upToProven(), Intent{}, "place", "on no target yet"},
		"proven, and wanted": {upToProven(), wish, "open", "not in its slot yet"},
		"placed":             {placed(), wish, "open", "has not been asked for its picture"},
		"confirmed": {placed().add(strongroom.String(), evidence.Confirmed{Says: "Connected, recording Active"}), wish, "none",
			"Every latch is open"},
		"moved since": {upToProven().add("ws-discovery", heardAt(addr.Next())), Intent{}, "open",
			"Reached at 192.0.2.11, since heard at 192.0.2.12."},
		"a stray": {(&story{}).add("ws-discovery", evidence.Heard{Addr: addr, Stray: true}), Intent{}, "change_ranges",
			"outside this site's ranges"},
		"open to anyone": {reached().add("", evidence.SignedIn{Open: true}), Intent{}, "claim", "lets anyone in"},
		"a recorder signed in to": {(&story{}).add("ws-discovery", evidence.Heard{Addr: addr, Kind: sighting.Recorder}).add("",
			evidence.Reached{Addr: addr}).add("", evidence.SignedIn{Recorder: true}), Intent{}, "none", "takes cameras"},
	} {
		s := Derive(c.story.records, c.intent)
		next := s.Next()
		assert.Equal(t, c.action, next.Action, name)
		assert.Contains(t, next.Reason, c.says, name)
		assert.NotEmpty(t, next.Label, name)
	}
}

// What is stuck has a fix of its own, and no cause is left without a button.
func TestNextOfWhatIsStuck(t *testing.T) {
	until := time.Unix(1e9, 0).UTC()
	for cause, action := range map[trouble.Cause]string{
		trouble.Locked: "wait", trouble.HeldBack: "wait", trouble.StreamRefuses: "stream_user", trouble.UnfitSignIn: "stream_user",
		trouble.Readable: "agree", trouble.SchemeWeaker: "agree_weaker", trouble.Stranger: "add_sign_in",
		trouble.NoSignIn:    "add_sign_in",
		trouble.WrongSignIn: "add_sign_in", trouble.CertificateChanged: "take_certificate", trouble.StreamsOff: "streams_on",
		trouble.FactoryFresh: "claim", trouble.RecorderShut: "open_recorder", trouble.OutOfScope: "change_ranges",
		trouble.NoAnswer: "open", trouble.PortClosed: "open", trouble.UnreadableRecord: "open", trouble.Unknown: "open",
	} {
		d := diagnose.Diagnosis{Cause: cause, Summary: "what", Fix: "how", Until: &until}
		s := Derive((&story{}).add("ws-discovery", heardAt(addr)).add("", evidence.Reached{Addr: addr, Diagnosis: &d}).records, Intent{})
		next := s.Next()
		assert.Equal(t, action, next.Action, cause)
		assert.Equal(t, []any{"what", "how", &until}, []any{next.Reason, next.Fix, next.Until}, cause)
		assert.NotEmpty(t, next.Label, cause)
	}

	changed := proofOf(mainURL, trouble.CertificateChanged)
	changed.TLS = &certificate.Certificate{SHA256: "ab12"}
	s := Derive(upToProven().add("p1", changed).records, Intent{})
	assert.Equal(t, "ab12", s.Next().Certificate, "the one that would be taken")
}

func TestGrid(t *testing.T) {
	played := proofOf(mainURL, "")
	played.Auth = "digest MD5"
	refused := proofOf(subURL, trouble.WrongSignIn)
	shot := evidence.Picture{Shot: evidence.Shot{Kind: "snapshot", Scheme: "none"}}
	s := Derive((&story{}).add("ws-discovery", heardAt(addr)).add("", evidence.Reached{Addr: addr}).
		add("", evidence.SignedIn{Label: "Fitter", User: "fitter", Level: "Operator", Scheme: "digest SHA-256"}).add("",
		streams("192.0.2.11")).
		add("p1", played).add("p2", refused).add("snapshot", shot).add("mjpeg", evidence.Picture{None: true}).
		add("", evidence.Web{URL: "http://192.0.2.11/", Diagnosis: &diagnose.Diagnosis{Cause: trouble.Locked,
			Summary: "locked"}}).records, Intent{})
	assert.Equal(t, []GridRow{
		{Service: "device service", State: "opens", SignIn: "Fitter", Whose: "the camera's", User: "fitter", Level: "Operator",
			Scheme: "digest SHA-256"},
		{Service: "main", State: "opens", SignIn: "Fitter", Whose: "the camera's", User: "fitter", Level: "Operator", Scheme: "digest MD5"},
		{Service: "sub", State: "refused", Note: "because"},
		{Service: "snapshot", State: "anyone", Scheme: "none"},
		{Service: "web page", State: "locked", Note: "locked"},
	}, s.Grid())

	own := Derive(upToProven().add("", evidence.StreamKey{SignIn: uuid.New(), Label: "Watcher", User: "watcher", Made: true}).records,
		Intent{})
	grid := own.Grid()
	require.Len(t, grid, 3)
	assert.Equal(t, []string{"Watcher", "the streams' own", "User"}, []string{grid[1].SignIn, grid[1].Whose, grid[1].Level})

	only := Derive((&story{}).add("", heardAt(addr)).add("", evidence.Reached{Addr: addr, Stream: "rtsp://192.0.2.11/"}).
		add("", evidence.SignedIn{StreamOnly: true, Label: "Fitter"}).
		add("", evidence.Located{Addr: addr, Streams: []camera.Stream{{Token: "p1", Role: "main", Channel: 1, URL: mainURL}}}).records,
		Intent{})
	require.Len(t, only.Grid(), 1)
	assert.Equal(t, "unknown", only.Grid()[0].State, "not played yet")
	assert.Nil(t, (&Status{}).Grid())
}
