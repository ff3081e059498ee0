package bringup

import (
	"strings"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/evidence"
	"unlatch/core/decide/latch"
	"unlatch/core/ground/certificate"
	"unlatch/core/ground/trouble"
	"unlatch/core/stream/sighting"
	"unlatch/core/work/onvifrecorder"
	"unlatch/sim/simtest"
)

const private = `
name: private
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: Only, maker: corvane, model: V4, address: 127.44.68.11, scene: platform-clock, streams: [&s {width: 160, height: 90,
       fps: 5, kbps: 80, gop: 5, profile: baseline}], defects: {https: only}}
  - {name: Sends, maker: lumenhythe, model: L2, address: 127.44.68.12, scene: turntable, streams: [*s], defects: {https: redirects}}
  - {name: Vault, kind: recorder, maker: holloway, model: H8, address: 127.44.68.20, slots: 4}
`

// A device that has closed its plain port, and one whose plain port sends everybody to TLS, go through all latches, and are known by their
// certificates from the first answer on.
func TestOverHTTPS(t *testing.T) {
	t.Parallel()
	w := simtest.Start(t, private)
	m := newMemory(t)
	m.key("Fitter", "fitter", "brass-lamp-41")
	vault := m.heard("Vault", "127.44.68.20", w.Device("Vault").Service(), sighting.Recorder)
	require.NoError(t, m.work(vault, "127.44.68.0/24").Open(ctx))
	m.targets[vault.ID] = &Target{ID: vault.ID, Kind: onvifrecorder.Kind, Name: "Vault", Device: vault, Trust: agreed()}
	for _, name := range []string{"Only", "Sends"} {
		addr := map[string]string{"Only": "127.44.68.11", "Sends": "127.44.68.12"}[name]
		d := m.heard(name, addr, w.Device(name).Service(), sighting.Camera)
		m.intents[d.ID] = latch.Intent{Targets: []latch.Target{{ID: vault.ID, Name: "Vault"}}}
		m.refused = map[uuid.UUID]bool{}
		require.NoError(t, m.work(d, "127.44.68.0/24").Open(ctx))
		now, err := m.Device(ctx, d.ID)
		require.NoError(t, err)
		require.Equal(t, latch.Name(""), now.Status.At(), "%s: %+v", name, now.Status.Latches)
		st := now.Status
		require.NotNil(t, st.Pin)
		require.NotNil(t, st.Reached.TLS)
		assert.Equal(t, st.Pin.Certificate.SHA256, st.Reached.TLS.SHA256)
		assert.Equal(t, name == "Sends", st.Reached.Redirected)
		assert.True(t, strings.HasPrefix(st.Reached.Service, "https://"+addr+":8443/"), st.Reached.Service)
		require.NotNil(t, st.Pictures["snapshot"])
		assert.True(t, strings.HasPrefix(st.Pictures["snapshot"].URL, "https://"), "the snapshot: %+v", st.Pictures["snapshot"])
		assert.Nil(t, st.Pictures["snapshot"].Diagnosis)
		require.NotNil(t, st.Web)
		assert.True(t, strings.HasPrefix(st.Web.URL, "https://"), st.Web.URL)
		assert.Nil(t, st.Web.Diagnosis)
	}
}

// A device that shows another certificate than before is asked nothing and told nothing until a person has taken the new one.
func TestAnotherCertificateStopsEverything(t *testing.T) {
	t.Parallel()
	w := simtest.Start(t, strings.ReplaceAll(private, "127.44.68.", "127.44.69."))
	m := newMemory(t)
	m.key("Fitter", "fitter", "brass-lamp-41")
	d := m.heard("Only", "127.44.69.11", w.Device("Only").Service(), sighting.Camera)
	require.NoError(t, m.Add(ctx, d, Finding{Body: evidence.Pin{Certificate: certificate.Certificate{SHA256: strings.Repeat("ab", 32)}}}))
	require.NoError(t, m.work(d, "127.44.69.0/24").Open(ctx))
	now, err := m.Device(ctx, d.ID)
	require.NoError(t, err)
	l := now.Status.Latch(latch.Reachable)
	require.Equal(t, latch.Stuck, l.State)
	assert.Equal(t, trouble.CertificateChanged, l.Diagnosis.Cause)
	assert.Empty(t, m.tries, "no sign-in went out")
	next := now.Status.Next()
	assert.Equal(t, []string{"take_certificate", now.Status.Reached.TLS.SHA256}, []string{next.Action, next.Certificate})
	assert.Zero(t, w.Device("Only").Asked())
}
