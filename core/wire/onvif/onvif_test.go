package onvif_test

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/diagnose"
	"unlatch/core/ground/address"
	"unlatch/core/ground/exchange"
	"unlatch/core/ground/signin"
	"unlatch/core/ground/trouble"
	"unlatch/core/stream/camera"
	"unlatch/core/wire/onvif"
	"unlatch/core/wire/target"
	"unlatch/core/work/onvifrecorder"
	"unlatch/sim/simtest"
)

const works = `
name: works
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: Clock, maker: corvane, model: V4, serial: C1, firmware: 4.2, address: 127.41.20.11, scene: platform-clock,
       streams: [&s {width: 320, height: 180, fps: 10, kbps: 200, gop: 5, profile: baseline}, {width: 640, height: 360, fps: 15,
       kbps: 600, audio: true}]}
  - {name: Turntable, maker: lumenhythe, model: L2, address: 127.41.20.12, scene: turntable, streams: [*s]}
  - {name: Late, maker: corvane, model: V4, address: 127.41.20.13, scene: turntable, streams: [*s], defects: {clock_offset: -86400,
       names_address: 0.0.0.0}}
  - {name: Strongroom, kind: recorder, maker: holloway, model: H8, address: 127.41.20.20, slots: 2}
`

var (
	ctx    = context.Background()
	fitter = signin.SignIn{User: "fitter", Secret: signin.NewSecret("brass-lamp-41")}
	scope  = &address.Guard{Allowed: address.MustParse("127.41.20.0/22")}
)

func client(t *testing.T, service string, in signin.SignIn, log *exchange.Log) *onvif.Client {
	c := onvif.New(service, onvif.Options{Dial: scope, SignIn: in, Log: log, Timeout: 800 * time.Millisecond})
	t.Cleanup(c.Close)
	return c
}

func TestSigningInAndStreams(t *testing.T) {
	w := simtest.Start(t, works)
	for _, c := range []struct {
		device, scheme, service, url, corrected string
		skewed                                  bool
	}{
		{"Clock", "WS-UsernameToken", "media", "rtsp://127.41.20.11:554/vista/ch1/secondary", "", false},
		{"Turntable", "digest SHA-256", "media2", "rtsp://127.41.20.12:8554/lantern/9?glow=live", "", false},
		{"Late", "WS-UsernameToken", "media", "rtsp://127.41.20.13:554/vista/ch1/primary", "0.0.0.0", true},
	} {
		log := exchange.NewLog(nil)
		o := client(t, w.Device(c.device).Service(), fitter, log)
		skew, err := o.Clock(ctx)
		require.NoError(t, err)
		assert.Equal(t, c.skewed, skew != 0, "%s %v", c.device, skew)
		info, err := o.Info(ctx)
		require.NoError(t, err, "%s: a clock that is a day late does not keep it from opening", c.device)
		assert.Equal(t, c.scheme, o.Scheme())
		assert.NotEmpty(t, info.Manufacturer)
		profiles, err := o.Profiles(ctx)
		require.NoError(t, err)
		streams := camera.GiveRoles(profiles, nil)
		for i := range streams {
			require.NoError(t, o.StreamURL(ctx, &streams[i]))
		}
		assert.Equal(t, "main", streams[0].Role)
		assert.Equal(t, c.url, streams[0].URL)
		assert.Equal(t, c.corrected, streams[0].Corrected)
		assert.Equal(t, c.service, streams[0].Service)
		if c.device == "Clock" {
			require.Len(t, streams, 2)
			assert.Equal(t, camera.Settings{Codec: "H.264", Width: 640, Height: 360, FPS: 15, BitrateKbps: 600, GOPFrames: 15},
				streams[0].Claimed, "the largest picture is main, whatever the order")
			assert.Equal(t, "sub", streams[1].Role)
		}
		ports, err := o.Protocols(ctx)
		require.NoError(t, err)
		assert.Len(t, ports, 2)
		assert.NotContains(t, log.String(), "brass-lamp-41")
		assert.NotRegexp(t, `Password[^>]*>[A-Za-z0-9+/=]{20}`, log.String(), "the digest is redacted too")
	}
}

func TestWrongSignInCostsOneTry(t *testing.T) {
	w := simtest.Start(t, strings.ReplaceAll(works, "127.41.20.", "127.41.21."))
	for _, device := range []string{"Clock", "Turntable"} {
		log := exchange.NewLog(nil)
		_, err := client(t, w.Device(device).Service(), signin.SignIn{User: "fitter", Secret: signin.NewSecret("guess")}, log).Info(ctx)
		var refused *onvif.RefusedError
		require.ErrorAs(t, err, &refused)
		assert.False(t, refused.NoSignIn)
		sent := strings.Count(log.String(), "Authorization:") + strings.Count(log.String(), "<w:UsernameToken>")
		assert.Equal(t, 1, sent, device)
		_, err = client(t, w.Device(device).Service(), signin.SignIn{}, nil).Info(ctx)
		require.ErrorAs(t, err, &refused)
		assert.True(t, refused.NoSignIn)
	}
}

func TestRecorderTakesCamerasUntilItIsFull(t *testing.T) {
	w := simtest.Start(t, strings.ReplaceAll(works, "127.41.20.", "127.41.22."))
	rec := onvifrecorder.New(client(t, w.Device("Strongroom").Service(), fitter, nil),
		target.Access{HandOver: func(context.Context, target.Handing) error { return nil }})
	url := func(name string) string {
		return strings.Replace(w.Device(name).URL(0), "rtsp://", "rtsp://fitter:brass-lamp-41@", 1)
	}
	a, err := rec.Place(ctx, target.Camera{Identity: "urn:a", Name: "Clock & <co>", Address: "127.41.22.11",
		Streams: []target.Stream{{URL: url("Clock")}}})
	require.NoError(t, err)
	report, err := rec.Confirm(ctx, a.Ref, 10*time.Second)
	require.NoError(t, err)
	assert.True(t, report.Arrived, "%+v", report)
	again, err := rec.Place(ctx, target.Camera{Identity: "urn:a", Name: "Clock", Streams: []target.Stream{{URL: url("Clock")}}})
	require.NoError(t, err)
	assert.Equal(t, a.Token, again.Token, "placing twice takes one slot")
	b, err := rec.Place(ctx, target.Camera{Identity: "urn:b", Name: "Wrong",
		Streams: []target.Stream{{URL: strings.Replace(url("Turntable"), "brass", "tin", 1)}}})
	require.NoError(t, err)
	report, err = rec.Confirm(ctx, b.Ref, 700*time.Millisecond)
	require.NoError(t, err)
	assert.False(t, report.Arrived, "a wrong password gives no picture, and the recorder says so: %+v", report)

	_, err = rec.Place(ctx, target.Camera{Identity: "urn:c", Name: "One too many", Streams: []target.Stream{{URL: url("Late")}}})
	var full *target.FullError
	require.ErrorAs(t, err, &full)
	assert.Equal(t, 2, full.Slots)
	layout, err := rec.Slots(ctx)
	require.NoError(t, err)
	assert.Zero(t, layout.Count(target.Free))
	require.Equal(t, 2, layout.Count(target.Used))
	assert.Equal(t, "Clock & <co>", layout.Slots[0].Name)
	require.NoError(t, rec.Remove(ctx, b.Ref))
	require.NoError(t, rec.Remove(ctx, b.Ref), "taking off what is gone is no error")
	_, err = rec.Place(ctx, target.Camera{Identity: "urn:c", Name: "Fits now", Streams: []target.Stream{{URL: url("Late")}}})
	assert.NoError(t, err)
	assert.Positive(t, w.Device("Strongroom").Slots()[0].Frames)
}

// A recorder tells its channels: whose picture each is, where the camera is, and the way through to its page where there is one.
func TestChannelsOfARecorder(t *testing.T) {
	w := simtest.Start(t, `
name: yard
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: Strongroom, kind: recorder, maker: holloway, model: H8, address: 127.41.23.20,
     channels: [{name: Subway & stairs, address: 10.254.4.11, scene: turntable, page: 9001, streams: [&m {width: 640, height: 360,
          fps: 10, kbps: 400, gop: 5}, &s {width: 320, height: 180, fps: 5, kbps: 100, gop: 5}]},
                {name: Waiting room, address: 10.254.4.12, scene: footbridge, streams: [*m]}]}
  - {name: Tool crib, kind: recorder, maker: holloway, model: H8, address: 127.41.23.21}
`)
	c := client(t, w.Device("Strongroom").Service(), fitter, nil)
	got, err := c.Channels(ctx)
	require.NoError(t, err)
	require.Len(t, got, 2)
	first := got[0]
	assert.Equal(t, []any{1, "Subway & stairs", "10.254.4.11", "http://127.41.23.20:9001/", "switch port 1"},
		[]any{first.Number, first.Name, first.Camera.String(), first.Page, first.Place})
	require.Len(t, first.Streams, 2)
	assert.Equal(t, w.Device("Strongroom").URL(0), first.Streams[0].URL)
	assert.Equal(t, []any{"sub", 320}, []any{first.Streams[1].Role, first.Streams[1].Claimed.Width})
	assert.Equal(t, []any{2, "Waiting room", ""}, []any{got[1].Number, got[1].Name, got[1].Page})
	page, err := http.Get(first.Page)
	require.NoError(t, err)
	defer page.Body.Close()
	body, _ := io.ReadAll(page.Body)
	assert.Contains(t, string(body), "Subway &amp; stairs")

	layout, err := onvifrecorder.New(c, target.Access{}).Slots(ctx)
	require.NoError(t, err, "channels without a receiver are no fault")
	assert.Equal(t, 2, layout.Count(target.Locked), "they are no slots for cameras on the network")
	none, err := client(t, w.Device("Tool crib").Service(), fitter, nil).Channels(ctx)
	require.NoError(t, err)
	assert.Empty(t, none, "a recorder that sends nothing on")
}

func TestHostileAnswers(t *testing.T) {
	envelope := func(body string) string {
		return `<e:Envelope xmlns:e="http://www.w3.org/2003/05/soap-envelope"><e:Body>` + body + `</e:Body></e:Envelope>`
	}
	info := envelope(`<GetDeviceInformationResponse><Manufacturer>Corvane</Manufacturer></GetDeviceInformationResponse>`)
	for _, c := range []struct {
		name  string
		serve http.HandlerFunc
		want  any // pointer to the expected error type; nil for success
		cause trouble.Cause
	}{
		{"a wrong content type around a right answer", func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Type", "text/html")
			io.WriteString(w, info)
		}, nil, ""},
		{"a web page", func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Type", "text/html")
			io.WriteString(w, "<html><body><p>Welcome</body></html>")
		}, new(*onvif.NotSOAPError), trouble.NotONVIF},
		{"not found", func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(404) }, new(*onvif.NotSOAPError), trouble.NotONVIF},
		{"a redirect elsewhere", func(w http.ResponseWriter, r *http.Request) {
			http.Redirect(w, r, "http://127.99.0.1/", http.StatusFound)
		},
			new(*onvif.NotSOAPError), trouble.NotONVIF},
		{"50 MB", func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Type", "application/soap+xml")
			for range 50 {
				if _, err := w.Write(make([]byte, 1<<20)); err != nil {
					return
				}
			}
		}, new(*onvif.LimitError), trouble.Unbounded},
		{"deep nesting", func(w http.ResponseWriter, _ *http.Request) {
			io.WriteString(w, envelope(strings.Repeat("<a>", 100000)))
		}, new(*onvif.LimitError), trouble.Unbounded},
		{"a header without end", func(w http.ResponseWriter, _ *http.Request) {
			for i := range 5000 {
				w.Header().Set(fmt.Sprint("X-", i), strings.Repeat("a", 50))
			}
		}, new(*onvif.LimitError), trouble.Unbounded},
		{"a fault on 200", func(w http.ResponseWriter, _ *http.Request) {
			io.WriteString(w, envelope(`<e:Fault><e:Code><e:Value>e:Receiver</e:Value><e:Subcode>`+
				`<e:Value>ter:ActionNotSupported</e:Value></e:Subcode></e:Code><e:Reason><e:Text>No</e:Text></e:Reason></e:Fault>`))
		}, new(*onvif.Fault), trouble.Unfit},
		{"an old SOAP 1.1 fault", func(w http.ResponseWriter, _ *http.Request) {
			w.WriteHeader(500)
			io.WriteString(w, envelope(`<e:Fault><faultcode>e:Server</faultcode><faultstring>Broken</faultstring></e:Fault>`))
		}, new(*onvif.Fault), trouble.Unfit},
		{"an unknown scheme", func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("WWW-Authenticate", "Negotiate")
			w.WriteHeader(401)
		}, nil, trouble.Unknown},
	} {
		t.Run(c.name, func(t *testing.T) {
			got, err := client(t, simtest.Serve(t, "127.41.20.99", c.serve)+"/onvif/device_service", fitter, nil).Info(ctx)
			switch {
			case c.want != nil:
				require.ErrorAs(t, err, c.want)
				assert.Equal(t, c.cause, diagnose.Explain(err, diagnose.Facts{Host: "h", Port: 80}).Cause)
			case c.cause == "":
				require.NoError(t, err)
				assert.Equal(t, "Corvane", got.Manufacturer)
			default:
				assert.ErrorContains(t, err, "negotiate")
			}
		})
	}
}

func TestHTTPSpokenToTheStreamPort(t *testing.T) {
	w := simtest.Start(t, strings.ReplaceAll(works, "127.41.20.", "127.41.23."))
	_, err := client(t, "http://"+w.Device("Clock").RTSP()+"/onvif/device_service", fitter, nil).Clock(ctx)
	d := diagnose.Explain(err, diagnose.Facts{Host: "127.41.23.11", Port: 554})
	assert.Equal(t, trouble.NotHTTP, d.Cause, "%+v", d)
}

func FuzzParseEnvelope(f *testing.F) {
	f.Add([]byte(`<e:Envelope xmlns:e="x"><e:Body><a/></e:Body></e:Envelope>`))
	f.Add([]byte(`<Envelope><Body><Fault><Code><Value>a:b</Value><Subcode><Value>c</Value></Subcode></Code></Fault></Body></Envelope>`))
	f.Add([]byte(strings.Repeat("<a>", 200)))
	f.Fuzz(func(t *testing.T, b []byte) { onvif.ParseEnvelope(b) })
}

// What a device tells without end is bounded by count as it is read: nothing else of it is kept.
func TestListsThatNeverEnd(t *testing.T) {
	answers := map[string]string{
		"GetNetworkProtocols": strings.Repeat("<NetworkProtocols><Name>"+strings.Repeat("x", 60)+"</Name>"+strings.Repeat("<Port>1</Port>", 40)+
			"</NetworkProtocols>", 400),
		"GetUsers": strings.Repeat("<User><Username>a</Username></User>", 17_000),
	}
	h := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		for name, answer := range answers {
			if strings.Contains(r.Header.Get("Content-Type"), name) {
				fmt.Fprintf(w, `<S:Envelope xmlns:S="%s"><S:Body><R>%s</R></S:Body></S:Envelope>`, onvif.NSSoap, answer)
			}
		}
	}))
	t.Cleanup(h.Close)
	c := onvif.New(h.URL, onvif.Options{Dial: &address.Guard{Allowed: address.MustParse("127.0.0.1")}})
	t.Cleanup(c.Close)
	protocols, err := c.Protocols(ctx)
	require.NoError(t, err)
	assert.Len(t, protocols, 16)
	assert.Len(t, protocols[0].Ports, 16)
	users, err := c.Users(ctx)
	require.NoError(t, err)
	assert.Len(t, users, 128)
	answers["GetUsers"] = strings.Repeat("<a/>", 150_000)
	_, err = c.Users(ctx)
	var limit *onvif.LimitError
	assert.ErrorAs(t, err, &limit)
}
