package e2e

import (
	"fmt"
	"testing"
	"time"

	"github.com/go-rod/rod/lib/input"
	"github.com/stretchr/testify/require"

	"unlatch/sim/simtest"
)

// listens keeps the pitch in Hz of what the page lets hear from now on, of samples as of what an audio element plays.
const listens = `() => {
	window.pitches = [];
	const start = AudioBufferSourceNode.prototype.start;
	AudioBufferSourceNode.prototype.start = function (...at) {
		const d = this.buffer.getChannelData(0);
		let ups = 0;
		for (let i = 1; i < d.length; i++) if (d[i - 1] < 0 && d[i] >= 0) ups++;
		window.pitches.push(ups / this.buffer.duration);
		start.apply(this, at);
	};
	const Plain = window.Audio;
	window.Audio = function () {
		const el = new Plain(), c = new AudioContext(), n = c.createAnalyser();
		n.fftSize = 8192;
		c.createMediaElementSource(el).connect(n);
		n.connect(c.destination);
		const bins = new Float32Array(n.frequencyBinCount);
		setInterval(() => {
			n.getFloatFrequencyData(bins);
			const peak = bins.reduce((best, v, i) => (v > bins[best] ? i : best), 0);
			if (bins[peak] > -70) window.pitches.push((peak * c.sampleRate) / n.fftSize);
		}, 100);
		return el;
	};
}`

// The sound of a camera is heard as it was made, whatever it is coded in: the stand-ins sound an A.
func TestTheSoundOfEveryCodecIsHeard(t *testing.T) {
	t.Parallel()
	yard := "name: sounds\nusers: [{name: fitter, secret: brass-lamp-41, level: Administrator}]\ndevices:\n"
	codecs := []string{"aac", "latm", "opus", "g726", `"true"`}
	for i, codec := range codecs {
		yard += fmt.Sprintf("  - {name: C%d, maker: corvane, model: V4, address: 127.43.41.%d, scene: viaduct, "+
			"streams: [{width: 320, height: 180, fps: 5, kbps: 100, gop: 5, profile: baseline, audio: %s}]}\n", i, 11+i, codec)
	}
	simtest.Start(t, yard)
	b := start(t)
	b.bring("Hall", "127.43.41.0/26", len(codecs))
	b.count(`[data-at="placed"]`, len(codecs))
	b.page.MustEval(listens)
	for i, codec := range codecs {
		b.press("^Line-up$")
		b.page.MustElementR(`[role=row]`, fmt.Sprintf(`127\.43\.41\.%d`, 11+i)).MustClick()
		b.page.MustElement("#bench")
		require.NoError(t, b.page.Keyboard.Type(input.KeyW))
		b.page.MustElement("[data-watching]")
		b.page.MustEval(`() => { window.pitches = []; }`)
		b.page.MustElement(`[data-tool="Sound on"]`).MustClick()
		eventually(t, func() bool {
			all := b.page.MustEval(`() => window.pitches.slice(-20)`).Arr()
			pitch := 0.0
			for _, p := range all {
				pitch += p.Num() / float64(len(all))
			}
			return len(all) == 20 && pitch > 420 && pitch < 460
		}, 60*time.Second, 200*time.Millisecond, "the sound of %s is an A", codec)
		b.page.MustElement(`[data-tool="Sound off"]`).MustClick()
	}
}
