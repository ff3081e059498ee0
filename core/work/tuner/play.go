package tuner

import (
	"context"
	"fmt"
	"strings"
	"time"

	"unlatch/core/ground/streamurl"
	"unlatch/core/stream/camera"
	"unlatch/core/stream/tuning"
	"unlatch/core/work/prove"
)

// Encoders settle within a moment, mostly; a stream is played again while it is not yet what was set.
const (
	plays     = 3
	settleFor = time.Second
)

func (w *work) playAll(ctx context.Context, back *View) error {
	for _, role := range camera.Roles {
		want, ok := w.out.Wanted[role]
		if !ok {
			continue
		}
		i := back.of(role)
		if i < 0 {
			continue
		}
		w.Doing("playing the " + role + " stream")
		if err := w.play(ctx, role, want, back.Streams[i].URL); err != nil {
			return err
		}
	}
	return nil
}

// play proves a stream until it is what was set, a few times.
func (w *work) play(ctx context.Context, role string, want tuning.Encoder, at string) error {
	u, err := streamurl.Parse(at)
	if err != nil {
		w.out.Tuned = false
		w.out.Problems = append(w.out.Problems, role+": its stream URL is not known")
		return nil
	}
	var off []tuning.Difference
	for try := range plays {
		if try > 0 {
			if err := w.Sleep(ctx, settleFor); err != nil {
				return err
			}
		}
		proof := w.Prover.Prove(ctx, prove.Request{URL: u, SignIn: w.SignIn, Leave: w.Leave, Measure: measureFor(want)})
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if proof.Diagnosis != nil {
			off = []tuning.Difference{{Field: "picture", Set: "a picture", Got: "none"}}
			if try == plays-1 {
				w.out.Problems = append(w.out.Problems, role+": "+proof.Diagnosis.Summary)
			}
			continue
		}
		w.out.Measured[role] = proof.Video
		if off = tuning.Meets(w.Plan.Streams[role], want, tuning.MeasureOf(proof.Video)); len(off) == 0 {
			return nil
		}
	}
	w.out.Tuned = false
	if w.out.Off == nil {
		w.out.Off = map[string][]tuning.Difference{}
	}
	w.out.Off[role] = off
	got := w.out.Measured[role]
	if got != nil && tuning.WantsRestart(want, w.out.Has[role], w.out.ReadBack[role], tuning.MeasureOf(got)) {
		w.out.Restart = true
		w.out.Problems = append(w.out.Problems,
			fmt.Sprintf("%s: it reads back as it was set, and sends what it sent before: it wants a restart", role))
	}
	return nil
}

// measureFor is long enough for two key-frame intervals, and for a bitrate to even out.
func measureFor(e tuning.Encoder) time.Duration {
	d := 4 * time.Second
	if e.FPS > 0 && e.GOPFrames > 0 {
		d = max(d, time.Duration(2.2*float64(e.GOPFrames)/e.FPS*float64(time.Second)))
	}
	return min(d, 20*time.Second)
}

// Services returns the addresses at which a device service may be, of what a person types: ADDRESS or ADDRESS:PORT.
func Services(host, port string) (out []string) {
	if strings.Contains(host, ":") {
		host = "[" + host + "]"
	}
	at := func(scheme, port string) { out = append(out, scheme+"://"+host+":"+port+"/onvif/device_service") }
	if port != "" {
		at("http", port)
		at("https", port)
		return out
	}
	for _, p := range []string{"80", "8080", "8000", "8899", "2020", "5000"} {
		at("http", p)
	}
	at("https", "443")
	at("https", "8443")
	return out
}
