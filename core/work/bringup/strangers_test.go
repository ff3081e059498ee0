package bringup

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"testing"
	"time"

	mqttserver "github.com/mochi-mqtt/server/v2"
	"github.com/mochi-mqtt/server/v2/hooks/auth"
	"github.com/mochi-mqtt/server/v2/listeners"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/command"
	"unlatch/core/decide/diagnose"
	"unlatch/core/decide/evidence"
	"unlatch/core/decide/latch"
	"unlatch/core/ground/certificate"
	"unlatch/core/ground/signin"
	"unlatch/core/ground/trouble"
	"unlatch/core/stream/sighting"
	"unlatch/core/wire/onvif"
	"unlatch/core/wire/target"
	"unlatch/core/wire/target/hub"
	"unlatch/sim/hostile"
)

// opened has a device's latches opened, as often as a person might, and returns what is known of it then.
func (m *memory) opened(d *latch.Device, times int) latch.Status {
	for range times {
		fresh, err := m.Device(ctx, d.ID)
		require.NoError(m.t, err)
		require.NoError(m.t, m.work(fresh, "127.44.95.0/24").Open(ctx))
	}
	fresh, err := m.Device(ctx, d.ID)
	require.NoError(m.t, err)
	return fresh.Status
}

// A host in the ranges with a certificate of its own that wants the password itself gets none, at the first opening and at the later ones
// alike: that it shows the same certificate again proves nothing. It gets one where a person has agreed, and then only over TLS; where a
// person has taken its certificate; and where that very sign-in has opened it before.
func TestTLSToAStrangerIsNoFriend(t *testing.T) {
	stranger, err := hostile.BasicOverTLS().StartTLS("127.44.95.11")
	require.NoError(t, err)
	t.Cleanup(stranger.Stop)
	setUp := func() (*memory, *latch.Device) {
		m := newMemory(t)
		m.takes = time.Millisecond
		for i, secret := range []string{"brass-lamp-41", "oak-door-52", "tin-kettle-63"} {
			m.key(fmt.Sprintf("Key %d", i), "fitter", secret)
		}
		return m, m.heard("Stranger", "127.44.95.11", "https://"+stranger.Addr+"/onvif/device_service", sighting.Camera)
	}
	m, d := setUp()
	st := m.opened(d, 3)
	require.NotNil(t, st.Latch(latch.SignedIn).Diagnosis)
	wanted := st.Wanted()
	require.NotNil(t, wanted, "%+v", st.Latch(latch.SignedIn).Diagnosis)
	assert.Equal(t, trouble.Readable, st.Latch(latch.SignedIn).Diagnosis.Cause)
	assert.Len(t, wanted.Certificate, 64)
	assert.Equal(t, signin.OverTLS, st.AgreesTo())
	assert.NotContains(t, stranger.Got(), "Authorization", "nobody has agreed")

	agreed := func(to signin.Agreement) {
		m.intents[d.ID] = latch.Intent{Agreed: func(string) (time.Time, signin.Agreement) { return time.Now(), to }}
	}
	agreed(signin.OverTLS)
	st = m.opened(d, 1)
	assert.Contains(t, stranger.Got(), "Authorization: Basic")
	require.NotNil(t, st.SignedIn)
	key := m.keys[0]
	assert.Equal(t, wanted.Certificate, st.OpenedUnder[key.ID.String()])
	m.intents[d.ID] = latch.Intent{}
	plain := signin.Sending{Scheme: "basic", Channel: signin.Channel{Scheme: "http", At: "127.44.95.11:80"}}
	same := signin.Sending{Scheme: "basic", Channel: signin.Channel{Scheme: "https", At: "127.44.95.11:443", Certificate: wanted.Certificate}}
	assert.NoError(t, st.Policy(signin.WebPage, key.ID, false).Check(same), "that very sign-in has opened it under this certificate")
	assert.Error(t, st.Policy(signin.WebPage, m.keys[1].ID, false).Check(same), "another one has not")
	assert.Error(t, st.Policy(signin.WebPage, key.ID, true).Check(plain), "and nothing is said of what goes without TLS")

	m, d = setUp()
	require.NoError(t, m.Add(ctx, d, Finding{Body: evidence.Pin{Certificate: certificate.Certificate{SHA256: wanted.Certificate},
		Taken: true}}))
	st = m.opened(d, 1)
	require.NotNil(t, st.SignedIn, "a person has taken its certificate")
	assert.Nil(t, st.SignedIn.Diagnosis)
}

// A device over TLS that names its media service at a plain address gets nothing there by the leave that it has over TLS.
func TestNoSignInFollowsAServiceOutOfTLS(t *testing.T) {
	outside, err := hostile.BasicTrap().Start("127.44.95.12")
	require.NoError(t, err)
	t.Cleanup(outside.Stop)
	device, err := hostile.OutOfTLS(outside.Addr).StartTLS("127.44.95.12")
	require.NoError(t, err)
	t.Cleanup(device.Stop)
	m := newMemory(t)
	m.takes = time.Millisecond
	m.key("Fitter", "fitter", "brass-lamp-41")
	d := m.heard("Half", "127.44.95.12", "https://"+device.Addr+"/onvif/device_service", sighting.Camera)
	m.intents[d.ID] = latch.Intent{Agreed: func(string) (time.Time, signin.Agreement) { return time.Now(), signin.OverTLS }}
	st := m.opened(d, 2)
	require.NotNil(t, st.SignedIn)
	assert.Contains(t, device.Got(), "Authorization: Basic")
	assert.NotEmpty(t, outside.Got(), "it was asked")
	assert.NotContains(t, outside.Got(), "Authorization", "and got nothing")
	assert.Equal(t, latch.Located, st.At())
	require.NotNil(t, st.Wanted(), "%+v", st.Latch(latch.Located))
	assert.Empty(t, st.Wanted().Certificate, "what is asked of the person is another thing now")
	assert.Equal(t, signin.InClear, st.AgreesTo())
}

// An onvif client asks leave once for each channel, and sends no sign-in with a redirect.
func TestLeaveIsAskedForEachChannel(t *testing.T) {
	m := newMemory(t)
	work := m.work(m.device("none"), "127.44.95.0/24")
	first, err := hostile.OutOfTLS("127.44.95.13:9").StartTLS("127.44.95.13")
	require.NoError(t, err)
	t.Cleanup(first.Stop)
	var asked []signin.Channel
	leave := func(_ context.Context, s signin.Sending) (func(error), error) {
		asked = append(asked, s.Channel)
		return func(error) {}, nil
	}
	c := onvif.New("https://"+first.Addr+"/onvif/device_service", onvif.Options{Dial: work.Guard, Leave: leave,
		SignIn: signin.SignIn{User: "fitter", Secret: signin.NewSecret("brass-lamp-41")}})
	defer c.Close()
	_, err = c.Info(ctx)
	require.NoError(t, err)
	_, err = c.Info(ctx)
	require.NoError(t, err)
	require.Len(t, asked, 1, "the same channel")
	assert.Equal(t, first.Addr, asked[0].At)
	assert.NotEmpty(t, asked[0].Certificate)
}

// serveBridge serves a strange bridge at a loopback address, over TLS where secure is set.
func serveBridge(t *testing.T, addr string, b *hostile.Bridge, secure bool) (url string) {
	l, err := net.Listen("tcp4", addr)
	require.NoError(t, err)
	s := &httptest.Server{Listener: l, Config: &http.Server{Handler: b}}
	if secure {
		s.StartTLS()
	} else {
		s.Start()
	}
	t.Cleanup(s.Close)
	return s.URL
}

// Whoever answers at a target's address is a stranger: a camera's sign-in is handed to it by a person's agreement alone, which
// names it, and which another one in its place does not have.
func TestASecretHandedOverIsASecretSent(t *testing.T) {
	v := newViews(t)
	open := &hostile.Bridge{}
	at := serveBridge(t, "127.44.90.31:0", open, false)
	desk := v.target("Desk", at, [16]byte{}, latch.Target{}, v.clock)
	desk.Trust = target.Trust{}
	stuck := func() *diagnose.Diagnosis {
		require.NoError(t, v.work(v.clock).PlaceOn(ctx, command.Place{Target: desk.ID, Again: true}))
		return v.placement(v.clock, desk.ID).Diagnosis
	}
	d := stuck()
	require.NotNil(t, d)
	assert.Equal(t, trouble.HandingUnagreed, d.Cause)
	require.NotNil(t, d.Wanted)
	assert.Equal(t, desk.ID, d.Wanted.Target)
	assert.Equal(t, string(target.CameraSignIn), d.Wanted.Secret)
	assert.Empty(t, open.Given(), "it was handed nothing")
	fresh, err := v.m.Device(ctx, v.clock.ID)
	require.NoError(t, err)
	next := fresh.Status.Next()
	assert.Equal(t, "agree_target", next.Action)
	assert.Equal(t, desk.ID, next.Target)

	desk.Trust = target.Trust{Agreements: []target.Agreement{{Secret: target.CameraSignIn}}}
	require.Nil(t, stuck())
	assert.Contains(t, open.Given(), "brass-lamp-41")
	bound := desk.Trust.Agreements[0].To
	require.NotNil(t, bound, "the agreement is bound to who has answered")
	assert.Equal(t, "Overlea", bound.Maker)

	open.Serial.Store("8")
	d = stuck()
	require.NotNil(t, d, "another one answers there now")
	assert.Contains(t, d.Summary, "its serial number is another")
	open.Serial.Store("")
	require.Nil(t, stuck())

	unattended := v.work(v.clock)
	unattended.Unattended = true
	require.NoError(t, unattended.PlaceOn(ctx, command.Place{Target: desk.ID, Again: true}))
	require.NotNil(t, v.placement(v.clock, desk.ID).Diagnosis)
	assert.Equal(t, trouble.ReadableWaits, v.placement(v.clock, desk.ID).Diagnosis.Cause)

	// Over TLS to a stranger it is the same, whatever sign-in of ours it takes.
	secure := &hostile.Bridge{Wants: `Digest realm="stranger", nonce="1", qop="auth"`}
	tlsDesk := v.target("TLS desk", serveBridge(t, "127.44.90.32:0", secure, true), v.desk.ID, latch.Target{}, v.clock)
	tlsDesk.Trust = target.Trust{}
	require.NoError(t, v.work(v.clock).PlaceOn(ctx, command.Place{Target: tlsDesk.ID}))
	d = v.placement(v.clock, tlsDesk.ID).Diagnosis
	require.NotNil(t, d)
	assert.Equal(t, trouble.HandingUnagreed, d.Cause)
	assert.NotEmpty(t, d.Wanted.Certificate)
	assert.Empty(t, secure.Given())
	tlsDesk.Trust.Certificates = []string{d.Wanted.Certificate} // a person has taken its certificate
	require.NoError(t, v.work(v.clock).PlaceOn(ctx, command.Place{Target: tlsDesk.ID}))
	assert.Nil(t, v.placement(v.clock, tlsDesk.ID).Diagnosis)
	assert.Contains(t, secure.Given(), "brass-lamp-41")
}

// A broker that takes whoever comes is handed nothing either: what it is given it keeps, and hands to whoever asks.
func TestAStrangeBrokerIsHandedNothing(t *testing.T) {
	v := newViews(t)
	broker := mqttserver.New(&mqttserver.Options{InlineClient: true})
	require.NoError(t, broker.AddHook(new(auth.AllowHook), nil))
	require.NoError(t, broker.AddListener(listeners.NewTCP(listeners.Config{ID: "t", Address: "127.44.90.33:18883"})))
	require.NoError(t, broker.Serve())
	t.Cleanup(func() { broker.Close() })
	require.NoError(t, broker.Publish("unlatch/about", []byte(`{"name":"Hearth","maker":"Hearthline"}`), true, 1))
	h := v.target("Hearth", "mqtt://127.44.90.33:18883", [16]byte{}, latch.Target{}, v.clock)
	h.Kind, h.Trust = hub.Kind, target.Trust{}
	require.NoError(t, v.work(v.clock).PlaceOn(ctx, command.Place{Target: h.ID}))
	d := v.placement(v.clock, h.ID).Diagnosis
	require.NotNil(t, d)
	assert.Equal(t, trouble.HandingUnagreed, d.Cause)
	kept := func() (out string) {
		for _, m := range broker.Topics.Messages("#") {
			out += m.TopicName + " " + string(m.Payload) + "\n"
		}
		return out
	}
	assert.NotContains(t, kept(), "brass-lamp-41")
	h.Trust = agreed()
	require.NoError(t, v.work(v.clock).PlaceOn(ctx, command.Place{Target: h.ID}))
	assert.Contains(t, kept(), "brass-lamp-41")
}

// A target that names another host as where its pictures come from gets its sign-in sent there by nobody, and the person is told.
func TestATargetsSignInStaysWithItsHost(t *testing.T) {
	v := newViews(t)
	trap := streamTrap(t, "127.44.90.41")
	own := &hostile.Bridge{Wants: `Basic realm="desk"`, SendsOn: "rtsp://" + trap.Addr + "/out/1"}
	desk := v.target("Desk", serveBridge(t, "127.44.90.34:0", own, false), v.desk.ID, latch.Target{}, v.clock)
	require.NoError(t, v.work(v.clock).PlaceOn(ctx, command.Place{Target: desk.ID}))
	p := v.placement(v.clock, desk.ID)
	require.Nil(t, p.Diagnosis)
	assert.NotEmpty(t, trap.Got(), "it was asked for the picture")
	assert.NotContains(t, trap.Got(), "Authorization")
	assert.Contains(t, p.Note, "not its own address")
	assert.Contains(t, p.Note, trap.Addr)
}

// streamTrap returns a host that wants the password of whoever plays from it.
func streamTrap(t *testing.T, host string) *hostile.Running {
	for _, d := range hostile.All() {
		if d.Speaks == hostile.Streams && d.Name == "wants the password itself" {
			r, err := d.Start(host)
			require.NoError(t, err)
			t.Cleanup(r.Stop)
			return r
		}
	}
	t.Fatal("there is none")
	return nil
}

// What a target was handed stands in nothing that is kept of it, however it repeats it, and in whoever's work.
func TestATargetThatRepeatsAPasswordPublishesNothing(t *testing.T) {
	v := newViews(t)
	desk := v.target("Desk", serveBridge(t, "127.44.90.35:0", &hostile.Bridge{Repeats: true}, false), [16]byte{}, latch.Target{}, v.clock)
	require.NoError(t, v.work(v.clock).PlaceOn(ctx, command.Place{Target: desk.ID}))
	look := Start(&latch.Device{ID: desk.ID, Title: "Desk", Addr: "127.44.90.35"}, v.work(v.clock).Config)
	require.NoError(t, look.LookAt(ctx, desk.ID))
	look.Close()
	seen := 0
	for _, s := range v.m.seen {
		seen++
		assert.NotContains(t, s.Exchange, "brass-lamp-41")
		if s.Layout != nil {
			assert.NotContains(t, fmt.Sprintf("%+v", s.Layout), "brass-lamp-41")
		}
	}
	assert.NotZero(t, seen)
	for _, r := range v.m.records[v.clock.ID] {
		assert.NotContains(t, string(r.Body), "brass-lamp-41", r.Kind)
	}
	for _, x := range v.m.exchanges {
		assert.NotContains(t, x, "brass-lamp-41")
	}
}
