package jobs_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/evidence"
	"unlatch/core/decide/latch"
	"unlatch/core/ground/certificate"
	"unlatch/core/ground/trouble"
	"unlatch/store"
)

const elsewhere = `
name: elsewhere
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: TLS only, maker: corvane, model: V4, serial: E1, address: NET.11, scene: viaduct, streams: [&s {width: 160, height: 90,
       fps: 5, kbps: 100, gop: 5, profile: baseline}, *s], defects: {transport: tls}}
  - {name: Tunnel only, maker: corvane, model: V4, serial: E2, address: NET.12, scene: viaduct, streams: [*s], defects: {transport: tunnel}}
`

// Streams that are not at the port that the device names are found at the ports that were heard, by TLS or within HTTP, and that is said.
func TestStreamsAreFoundElsewhere(t *testing.T) {
	t.Parallel()
	b := keyed(t, elsewhere, "127.42.19", [3]string{"Fitter", "fitter", "brass-lamp-41"})
	b.wait(b.open(b.ids("11", "12")))
	for last, want := range map[string]struct{ url, transport string }{
		"11": {"rtsps://127.42.19.11/vista/ch1/primary", "tcp"},
		"12": {"rtsp://127.42.19.12:80/vista/ch1/primary", "http tunnel"},
	} {
		st := b.device(last).Status
		require.Equal(t, latch.Placed, st.At(), "%s: %+v", last, st.Latches)
		assert.Equal(t, want.url, st.Streams[0].URL)
		assert.Equal(t, want.transport, st.Proofs["main"].Transport)
		assert.Equal(t, "port 554", st.Streams[0].Corrected)
	}
	pin := b.device("11").Status.Pin
	require.NotNil(t, pin)
	d := b.device("11")
	require.NoError(t, b.s.Devices.Record(ctx, d, nil,
		store.Finding{Body: evidence.Pin{Certificate: certificate.Certificate{SHA256: "another"}}}))
	b.wait(b.openAgain(b.ids("11")))
	changed := b.device("11").Status
	require.NotNil(t, changed.Latch(latch.Proven).Diagnosis, "%+v", changed.Latches)
	assert.Equal(t, trouble.CertificateChanged, changed.Latch(latch.Proven).Diagnosis.Cause)
	assert.Equal(t, pin.Certificate.SHA256, changed.Proofs["main"].TLS.SHA256, "the one that is shown now")
}
