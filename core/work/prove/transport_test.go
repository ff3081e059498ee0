package prove_test

import (
	"context"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/proof"
	"unlatch/core/ground/address"
	"unlatch/core/ground/streamurl"
	"unlatch/core/ground/trouble"
	"unlatch/core/stream/media"
	"unlatch/core/work/prove"
	"unlatch/sim/simtest"
)

const ways = `
name: ways
users: [{name: fitter, secret: "@:/#%&+ ä", level: Administrator}]
devices:
  - {name: udp, maker: corvane, model: V4, serial: T1, address: 127.41.31.11, scene: turntable, streams: [&s {width: 320,
       height: 180, fps: 10, kbps: 200, gop: 5, profile: baseline, audio: true}], defects: {transport: udp}}
  - {name: multicast, maker: corvane, model: V4, serial: T2, address: 127.41.31.12, scene: turntable, streams: [*s],
       defects: {transport: multicast}}
  - {name: tls, maker: corvane, model: V4, serial: T3, address: 127.41.31.13, scene: turntable, streams: [*s], defects: {transport: tls}}
  - {name: tunnel, maker: corvane, model: V4, serial: T4, address: 127.41.31.14, scene: turntable, streams: [*s],
       defects: {transport: tunnel}}
  - {name: expired, maker: corvane, model: V4, serial: T5, address: 127.41.31.15, scene: turntable, streams: [*s], tls: expired,
       defects: {transport: tls}}
  - {name: stale, maker: lumenhythe, model: L2, serial: T6, address: 127.41.31.16, scene: turntable, streams: [*s],
       defects: {stale_seconds: 1}}
  - {name: moved, maker: corvane, model: V4, serial: T7, address: 127.41.31.17, scene: turntable, streams: [*s], defects: {redirects: path}}
  - {name: loop, maker: corvane, model: V4, serial: T8, address: 127.41.31.18, scene: turntable, streams: [*s], defects: {redirects: loop}}
  - {name: outside, maker: corvane, model: V4, serial: T9, address: 127.41.31.19, scene: turntable, streams: [*s],
       defects: {redirects: "rtsp://127.99.0.1/vista/ch1/primary"}}
  - {name: encrypted, maker: corvane, model: V4, serial: T11, address: 127.41.31.21, scene: turntable, streams: [*s],
       defects: {encrypts: true}}
  - {name: sister, maker: corvane, model: V4, serial: T10, address: 127.41.31.20, scene: turntable, streams: [*s],
       defects: {redirects: "rtsp://127.41.31.11:554/vista/ch1/primary"}}
`

// Whatever way a device sends, the same picture is measured, with a password of awkward characters.
func TestEveryTransport(t *testing.T) {
	t.Parallel()
	w := simtest.Start(t, ways)
	in := fitter
	require.NoError(t, in.Secret.UnmarshalText([]byte("@:/#%&+ ä")))
	ask := func(name, url, pin string) proof.Proof {
		if url == "" {
			url = w.Device(name).URL(0)
		}
		u, err := streamurl.Parse(url)
		require.NoError(t, err)
		p := prove.Prover{Dial: &address.Guard{Allowed: address.MustParse("127.41.0.0/16")}, Still: media.Still}
		proof := p.Prove(context.Background(), prove.Request{URL: u, SignIn: in, Timeout: time.Second, Pin: pin})
		assert.NotContains(t, proof.Exchange, in.Secret.Reveal(), name)
		return proof
	}
	t.Run("ways", func(t *testing.T) {
		for _, c := range []struct{ name, url, transport string }{
			{"udp", "", "udp"},
			{"multicast", "", "multicast"},
			{"tls", "rtsps://127.41.31.13/vista/ch1/primary", "tcp"},
			{"tunnel", "rtsp://" + w.Device("tunnel").Web() + "/vista/ch1/primary", "http tunnel"},
			{"expired", "rtsps://127.41.31.15/vista/ch1/primary", "tcp"},
			{"stale", "", "tcp"},
			{"moved", "", "tcp"},
		} {
			t.Run(c.name, func(t *testing.T) {
				t.Parallel()
				p := ask(c.name, c.url, "")
				require.Nil(t, p.Diagnosis, "%+v\n%s", p.Diagnosis, p.Exchange)
				assert.Equal(t, c.transport, p.Transport)
				assert.Equal(t, 320, p.Video.Width)
				assert.InDelta(t, 10, p.Video.FPS, 1.5)
				assert.Zero(t, p.Video.Lost)
				require.NotNil(t, p.Audio)
				assert.Greater(t, p.Audio.Packets, 20)
				assert.NotEmpty(t, p.Still)
			})
		}
	})

	tls := ask("tls", "rtsps://127.41.31.13/vista/ch1/primary", "")
	require.NotNil(t, tls.TLS)
	assert.False(t, tls.TLS.Expired)
	assert.Nil(t, ask("tls", "rtsps://127.41.31.13/vista/ch1/primary", tls.TLS.SHA256).Diagnosis)
	changed := ask("tls", "rtsps://127.41.31.13/vista/ch1/primary", strings.Repeat("ab", 32))
	require.NotNil(t, changed.Diagnosis)
	assert.Equal(t, trouble.CertificateChanged, changed.Diagnosis.Cause)
	assert.Contains(t, changed.Diagnosis.Seen, tls.TLS.SHA256, "the change is shown")
	assert.NotContains(t, changed.Exchange, "DESCRIBE", "nothing was sent")
	assert.True(t, ask("expired", "rtsps://127.41.31.15/vista/ch1/primary", "").TLS.Expired)

	encrypted := ask("encrypted", "", "").Diagnosis
	require.NotNil(t, encrypted)
	assert.Contains(t, encrypted.Fix, "encryption may be on")
	loop := ask("loop", "", "").Diagnosis
	require.NotNil(t, loop)
	assert.Contains(t, loop.Summary, "leads nowhere")
	outside := ask("outside", "", "").Diagnosis
	require.NotNil(t, outside)
	assert.Equal(t, trouble.OutOfScope, outside.Cause)
	sister := ask("sister", "", "")
	require.NotNil(t, sister.Diagnosis)
	assert.Equal(t, trouble.NoSignIn, sister.Diagnosis.Cause, "a sign-in goes to no other device than its own")
	assert.NotContains(t, sister.Exchange, "Authorization")
}
