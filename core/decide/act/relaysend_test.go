package act

import (
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/evidence"
	"unlatch/core/ground/hours"
	"unlatch/core/stream/conversion"
	"unlatch/core/stream/media"
)

func TestARelayIsServedToPages(t *testing.T) {
	t.Parallel()
	d := device("Clock", sends("rtsp://192.0.2.7/main"))
	f := facts(d)
	f.Serving = serving(1)
	x := relayOf(d, conversion.Shape{})
	x.Page = true
	_, err := x.Decide(f)
	assert.Equal(t, "no_pages", cause(t, err))
	f.Serving[0].Pages = "http://192.0.2.5:8590"
	out, err := x.Decide(f)
	require.NoError(t, err)
	assert.Contains(t, out.Line.After, "for web pages")
	x.Form = conversion.Shape{Codec: "MJPEG"}
	_, err = x.Decide(f)
	assert.Equal(t, "page_codec", cause(t, err))

	name := RelayName{ID: x.ID, Device: d.ID, Path: x.Path}
	_, err = MakePage{RelayName: name, Until: f.Now.Add(time.Hour)}.Decide(f)
	assert.Equal(t, "no_page", cause(t, err))
	for _, end := range []time.Duration{-time.Hour, 0, 500 * 24 * time.Hour} {
		_, err = MakePage{RelayName: name, On: true, Until: f.Now.Add(end)}.Decide(f)
		assert.Equal(t, "bad_end", cause(t, err))
	}
	out, err = MakePage{RelayName: name, On: true, Until: time.Date(2026, 3, 2, 8, 0, 0, 0, time.UTC)}.Decide(Facts{
		Now: time.Date(2026, 3, 1, 8, 0, 0, 0, time.UTC), Devices: f.Devices})
	require.NoError(t, err)
	assert.Equal(t, "until 2026-03-02 08:00 UTC", out.Line.After)
	assert.Equal(t, Reveal, MakePage{RelayName: name}.About().Right)
}

// What platforms do not take is refused before it is sent, and a key goes out unencrypted on a person's word alone.
func TestARelayIsSentToAPlatform(t *testing.T) {
	t.Parallel()
	d := device("Clock", sends("rtsp://192.0.2.7/main"))
	f := facts(d)
	x := relayOf(d, conversion.Shape{})
	to := func(p PushForm) error {
		x.Push = &p
		_, err := x.Decide(f)
		return err
	}
	assert.Equal(t, "no_worker", cause(t, to(PushForm{To: "rtmps://ingest.example/live"})))
	f.Serving = serving(1)
	for text, want := range map[string]string{"http://ingest.example/live": "bad_ingest", "rtmps://ingest.example": "bad_ingest",
		"rtmps://ingest.example/live/a1b2c3d4e5": "key_in_address", "rtmps://ingest.example/live?key=1": "key_in_address",
		"rtmp://ingest.example/live": "clear_key"} {
		assert.Equal(t, want, cause(t, to(PushForm{To: text})), text)
	}
	require.NoError(t, to(PushForm{To: "rtmp://ingest.example/live", Clear: true}))
	assert.Equal(t, "bad_hours", cause(t, to(PushForm{To: "rtmps://ingest.example/live", Hours: hours.Week{From: "8"}})))
	x.Form = conversion.Shape{Codec: "H.265"}
	assert.Equal(t, "push_codec", cause(t, to(PushForm{To: "rtmps://ingest.example/live"})))
	x.Form = conversion.Shape{}
	proven := d.Status.Proofs["main"]
	proven.Audio = &media.Audio{Codec: "G.711 A-law"}
	d.Status.Proofs = map[string]evidence.Proof{"main": proven}
	assert.Equal(t, "push_sound", cause(t, to(PushForm{To: "rtmps://ingest.example/live"})))
	x.Form = conversion.Shape{Sound: "AAC"}
	require.NoError(t, to(PushForm{To: " rtmps://ingest.example/live/ "}))
	out, err := x.Decide(f)
	require.NoError(t, err)
	assert.Equal(t, "rtmps://ingest.example:443/live", out.Keep[0].(PutRelay).Push.To)
	assert.Contains(t, out.Line.After, "sent to rtmps://ingest.example:443/live")
	assert.NotContains(t, out.Line.After, "brass")

	name := RelayName{ID: uuid.New(), Device: d.ID, Path: x.Path}
	out, err = PausePush{RelayName: name, Paused: true}.Decide(f)
	require.NoError(t, err)
	assert.Equal(t, [2]string{"sent", "stopped"}, [2]string{out.Line.Before, out.Line.After})
	out, err = StopPushes{Site: f.Site.ID}.Decide(f)
	require.NoError(t, err)
	assert.Equal(t, f.Site.Name, out.Line.Subject)
}
