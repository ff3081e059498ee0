package face_test

import (
	"bytes"
	"context"
	"encoding/base64"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/ground/address"
	"unlatch/core/ground/signin"
	"unlatch/core/ground/tries"
	"unlatch/core/wire/onvif"
	"unlatch/core/work/face"
)

func gate() face.Face {
	return face.Face{ID: "4f0e2a51-7a0e-4d53-9d52-0f8a61a6b3c1", Name: "Yard gate & wall", User: "relay-k2f9aa",
		Secret: signin.NewSecret("A7Q2ZL5MXW3CFD6R"), Version: "1.2.3", Stream: face.Stream{URI: "rtsp://127.0.0.1:8554/gate/main?a=1&b=2",
			Codec: "H.264", Profile: "High", Width: 1280, Height: 720, FPS: 12.5, Kbps: 2000, GOP: 25, Sound: "AAC"},
		Snapshot: func(context.Context) ([]byte, error) { return []byte{0xff, 0xd8, 0xff, 0xd9}, nil }}
}

// serve serves a face on loopback.
func serve(t *testing.T, f face.Face) (face.Face, *httptest.Server) {
	t.Helper()
	l, err := net.Listen("tcp4", "127.0.0.1:0")
	require.NoError(t, err)
	f.At = netip.MustParseAddrPort(l.Addr().String())
	s := httptest.NewUnstartedServer(face.New(f, &tries.Counter{}))
	s.Listener.Close()
	s.Listener = l
	s.Start()
	t.Cleanup(s.Close)
	return f, s
}

func Example() {
	f := face.Face{ID: "4f0e2a51-7a0e-4d53-9d52-0f8a61a6b3c1", Name: "Yard gate", At: netip.MustParseAddrPort("192.0.2.5:8580")}
	fmt.Println(f.Address())
	_ = http.Server{Handler: face.New(f, &tries.Counter{})}
	// Output: http://192.0.2.5:8580/onvif/device_service
}

// Our own client takes a face for what it is: a device with one stream, as it was measured.
func TestOurOwnClientTakesIt(t *testing.T) {
	t.Parallel()
	for _, codec := range []string{"H.264", "H.265", "MJPEG"} {
		g := gate()
		g.Stream.Codec, g.Stream.Profile = codec, map[string]string{"H.264": "High", "H.265": "Main", "MJPEG": "Baseline"}[codec]
		f, _ := serve(t, g)
		c := onvif.New(f.Address(), onvif.Options{Dial: &address.Guard{Allowed: address.MustParse("127.0.0.0/8")},
			SignIn: signin.SignIn{User: f.User, Secret: f.Secret}})
		defer c.Close()
		ctx := t.Context()
		_, err := c.Clock(ctx)
		require.NoError(t, err)
		info, err := c.Info(ctx)
		require.NoError(t, err, codec)
		assert.Equal(t, []string{"Unlatch", "Relay", "1.2.3"}, []string{info.Manufacturer, info.Model, info.Firmware})
		endpoint, err := c.Endpoint(ctx)
		require.NoError(t, err)
		assert.Contains(t, endpoint, f.ID)
		streams, err := c.Profiles(ctx)
		require.NoError(t, err, codec)
		require.Len(t, streams, 1, codec)
		s := streams[0]
		require.NoError(t, c.StreamURL(ctx, &s))
		assert.Equal(t, f.Stream.URI, s.URL)
		assert.Equal(t, []any{codec, 1280, 720}, []any{s.Claimed.Codec, s.Claimed.Width, s.Claimed.Height})
		assert.InDelta(t, 12.5, s.Claimed.FPS, 0.51, "Media knows whole numbers alone")
		snapshot, err := c.SnapshotURL(ctx, s.Token)
		require.NoError(t, err)
		assert.Contains(t, snapshot, "snapshot.jpg")
		encoders, err := c.Encoders(ctx)
		require.NoError(t, err, codec)
		require.Len(t, encoders, 1)
		assert.NoError(t, c.SetEncoder(ctx, encoders[0].Encoder), "what it is already")
		other := encoders[0].Encoder
		other.Width, other.Height = 640, 360
		assert.Error(t, c.SetEncoder(ctx, other), "it is read-only")
		options, err := c.EncoderOptions(ctx, encoders[0])
		require.NoError(t, err)
		_, has := options.Of(codec)
		assert.True(t, has, "%+v", options)
	}
}

// A question is one request to a face, with a username token where secret is not empty.
type question struct {
	at, service, body string
	user, secret      string
	created           time.Time
	nonce             string
}

// ask sends it.
func (q question) ask(t *testing.T) (status int, answer string) {
	t.Helper()
	token := ""
	if q.secret != "" {
		stamp := q.created.UTC().Format(time.RFC3339)
		token = `<Security xmlns="http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-wssecurity-secext-1.0.xsd"><UsernameToken><Username>` +
			q.user + `</Username><Password>` + onvif.PasswordDigest([]byte(q.nonce), stamp, q.secret) + `</Password><Nonce>` +
			base64.StdEncoding.EncodeToString([]byte(q.nonce)) + `</Nonce><Created>` + stamp + `</Created></UsernameToken></Security>`
	}
	res, err := http.Post("http://"+q.at+q.service, "application/soap+xml", strings.NewReader(
		`<s:Envelope xmlns:s="http://www.w3.org/2003/05/soap-envelope"><s:Header>`+token+`</s:Header><s:Body>`+q.body+`</s:Body></s:Envelope>`))
	require.NoError(t, err)
	defer res.Body.Close()
	raw, err := io.ReadAll(res.Body)
	require.NoError(t, err)
	return res.StatusCode, string(raw)
}

// Only what the standard leaves open is answered without the face's own sign-in; a token is good once, and for some minutes.
func TestWhoMayAskWhat(t *testing.T) {
	t.Parallel()
	f, s := serve(t, gate())
	at, secret := f.At.String(), f.Secret.Reveal()
	const service, media = "/onvif/device_service", "/onvif/media_service"
	for _, name := range []string{"GetSystemDateAndTime", "GetServices", "GetCapabilities", "GetHostname", "GetWsdlUrl"} {
		status, _ := question{at: at, service: service, body: "<" + name + "/>"}.ask(t)
		assert.Equal(t, 200, status, name)
	}
	uri := "<GetStreamUri><ProfileToken>main</ProfileToken></GetStreamUri>"
	status, answer := question{at: at, service: media, body: uri}.ask(t)
	assert.Equal(t, 401, status)
	assert.NotContains(t, answer, "rtsp://")
	status, answer = question{at, media, uri, f.User, secret, time.Now(), "once"}.ask(t)
	assert.Equal(t, 200, status)
	assert.Contains(t, answer, "gate/main?a=1&amp;b=2")
	status, _ = question{at, media, uri, f.User, secret, time.Now(), "once"}.ask(t)
	assert.Equal(t, 401, status, "the same token again")
	status, _ = question{at, media, uri, f.User, secret, time.Now().Add(-time.Hour), "old"}.ask(t)
	assert.Equal(t, 401, status, "one of an hour ago")
	other := strings.Replace(uri, "main", "other", 1)
	status, answer = question{at, media, other, f.User, secret, time.Now(), "a"}.ask(t)
	assert.Equal(t, 400, status)
	assert.Contains(t, answer, "ter:NoProfile")
	status, answer = question{at, service, "<SystemReboot/>", f.User, secret, time.Now(), "b"}.ask(t)
	assert.Equal(t, 500, status)
	assert.Contains(t, answer, "ter:ActionNotSupported")
	for _, junk := range []string{"", "<", "<a>", strings.Repeat("<a>", 10_000), "<GetUsers>" + strings.Repeat("x", 100_000) + "</GetUsers>"} {
		status, _ = question{at: at, service: service, body: junk}.ask(t)
		assert.NotEqual(t, 200, status)
	}
	for i := range 20 {
		question{at, media, uri, f.User, "guess", time.Now(), fmt.Sprint("g", i)}.ask(t)
	}
	status, _ = question{at, media, uri, f.User, secret, time.Now(), "c"}.ask(t)
	assert.Equal(t, 401, status, "who guesses is shut out for a while")
	res, err := http.Get(s.URL + "/onvif/snapshot.jpg")
	require.NoError(t, err)
	res.Body.Close()
	assert.Equal(t, 401, res.StatusCode)
}

// Whatever comes, nothing of the stream is told without a sign-in.
func FuzzRequests(f *testing.F) {
	h := face.New(gate(), &tries.Counter{})
	for _, body := range []string{"<GetServices><IncludeCapability>true</IncludeCapability></GetServices>", "<GetProfiles/>",
		"<a:b xmlns:a='x'/>", "<GetStreamUri><ProfileToken>main</ProfileToken></GetStreamUri>"} {
		f.Add([]byte("<s:Envelope xmlns:s='http://www.w3.org/2003/05/soap-envelope'><s:Body>" + body + "</s:Body></s:Envelope>"))
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		for _, path := range []string{"/onvif/device_service", "/onvif/media_service", "/onvif/media2_service"} {
			w := httptest.NewRecorder()
			h.ServeHTTP(w, httptest.NewRequest("POST", path, bytes.NewReader(b)))
			if strings.Contains(w.Body.String(), "rtsp://") {
				t.Fatal("the stream was told")
			}
		}
	})
}

// The table in the documentation is what a face answers.
func TestTheTableOfOperations(t *testing.T) {
	t.Parallel()
	raw, err := os.ReadFile("../../../docs/relay.md")
	require.NoError(t, err)
	_, table, found := strings.Cut(string(raw), "## Operations of a face")
	require.True(t, found)
	told := map[string][]string{}
	for _, line := range strings.Split(table, "\n") {
		cells := strings.Split(line, "|")
		if len(cells) < 5 || !strings.Contains(cells[2], "`") {
			continue
		}
		path := "/onvif/" + strings.ToLower(strings.TrimSpace(cells[1])) + "_service"
		if !strings.Contains(cells[3], "refused") {
			told[path] = append(told[path], strings.Trim(cells[2], " `"))
		}
	}
	for path, names := range face.Operations() {
		slices.Sort(names)
		slices.Sort(told[path])
		assert.Equal(t, names, told[path], path)
	}
}
