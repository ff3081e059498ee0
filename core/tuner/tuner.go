// Package tuner sets the streams of one device to a plan by its device service: it sends, reads back, plays and compares. What it is asked
// for and what a device offers is weighed in package tuning.
package tuner

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"unlatch/core/camera"
	"unlatch/core/media"
	"unlatch/core/onvif"
	"unlatch/core/prove"
	"unlatch/core/signin"
	"unlatch/core/streamurl"
	"unlatch/core/tuning"
)

// A Stream is one stream of a device with its encoder and what that offers.
type Stream struct {
	Role    string         `json:"role"`
	Token   string         `json:"token"`
	Name    string         `json:"name,omitempty"`
	URL     string         `json:"url" doc:"without a sign-in"`
	Encoder tuning.Encoder `json:"encoder"`
	Offers  tuning.Options `json:"offers"`
	Problem string         `json:"problem,omitempty" doc:"why it is not known what the encoder offers"`
}

// Streams asks a device for its streams, the roles given by the size of the picture.
func Streams(ctx context.Context, c *onvif.Client) ([]Stream, error) {
	if _, err := c.Clock(ctx); err != nil {
		return nil, err
	}
	list, err := c.Profiles(ctx)
	if err != nil {
		return nil, err
	}
	encoders, err := c.Encoders(ctx)
	if err != nil {
		return nil, err
	}
	var out []Stream
	for _, s := range camera.GiveRoles(list, nil) {
		if s.Channel > 1 {
			continue // a recorder's channels are tuned at their cameras
		}
		i := slices.IndexFunc(encoders, func(e onvif.EncoderOf) bool { return e.Profile == s.Token })
		if i < 0 {
			continue
		}
		one := Stream{Role: s.Role, Token: s.Token, Name: s.Name, Encoder: encoders[i].Encoder}
		if err := c.StreamURL(ctx, &s); err == nil {
			one.URL = s.URL
		}
		if one.Offers, err = c.EncoderOptions(ctx, encoders[i]); err != nil {
			if ctx.Err() != nil {
				return nil, ctx.Err()
			}
			one.Problem = err.Error()
		}
		out = append(out, one)
	}
	return out, nil
}

// A Request is what to set on a device.
type Request struct {
	Plan   map[string]tuning.Stream // by role
	DryRun bool                     // nothing is sent
	SignIn signin.SignIn            // for playing
	Leave  signin.Leave
	Prover *prove.Prover     // nil plays nothing
	Doing  func(what string) // may be nil
	// Before, where not nil, is told how the streams of the plan are set before anything is sent: with that it can be undone whatever
	// happens then. Its error ends the work.
	Before func(map[string]tuning.Encoder) error
}

// A Result is what came of it.
type Result struct {
	Changes     []tuning.Change                `json:"changes"`
	Refused     []tuning.Refusal               `json:"refused"`
	SideEffects []string                       `json:"side_effects"`
	ReadBack    map[string]tuning.Encoder      `json:"read_back" doc:"by role, after sending"`
	Measured    map[string]*media.Measured     `json:"measured" doc:"by role, of the streams of the plan"`
	Off         map[string][]tuning.Difference `json:"differs,omitempty" doc:"by role, in what what was measured is not what was set"`
	Tuned       bool                           `json:"tuned"`
	Wanted      map[string]tuning.Encoder      `json:"-"` // by role, what was sent
	Problems    []string                       `json:"problems,omitempty"`
	// Before are the encoders as they were, which is what undoes it.
	Before map[string]tuning.Encoder `json:"before"`
}

// Encoders settle within a moment, mostly; a stream is played again while it is not yet what was set.
const (
	plays     = 3
	settleFor = time.Second
)

// Tune sets the streams of a device to a plan. Its error is of asking the device; what it refuses or does otherwise is in the result.
func Tune(ctx context.Context, c *onvif.Client, r Request) (*Result, error) {
	if r.Doing == nil {
		r.Doing = func(string) {}
	}
	out := &Result{Changes: []tuning.Change{}, Refused: []tuning.Refusal{}, SideEffects: []string{}, ReadBack: map[string]tuning.Encoder{},
		Measured: map[string]*media.Measured{}, Before: map[string]tuning.Encoder{}}
	streams, err := Streams(ctx, c)
	if err != nil {
		return nil, err
	}
	wanted := map[string]tuning.Encoder{}
	var send []tuning.Encoder
	for _, role := range camera.Roles {
		plan, asked := r.Plan[role]
		i := slices.IndexFunc(streams, func(s Stream) bool { return s.Role == role })
		switch {
		case i >= 0:
			out.Before[role] = streams[i].Encoder
		case asked && !plan.Off:
			out.Refused = append(out.Refused, tuning.Refusal{Stream: role, Field: "stream", Asked: plan.String(),
				Why: "it has no such stream; make one on the device's own page"})
		}
		if i < 0 || !asked {
			continue
		}
		if plan.Off {
			out.Refused = append(out.Refused, tuning.Refusal{Stream: role, Field: "stream", Asked: "off",
				Why: "a stream is switched off on the device's own page"})
			continue
		}
		want, changes, refused := tuning.Towards(role, plan, streams[i].Encoder, streams[i].Offers)
		wanted[role] = want
		out.Changes, out.Refused = append(out.Changes, changes...), append(out.Refused, refused...)
		if len(changes) > 0 {
			send = append(send, want)
		}
		out.shared(role, want, streams)
	}
	if r.DryRun {
		return out, nil
	}
	if r.Before != nil && len(send) > 0 {
		was := map[string]tuning.Encoder{}
		for role := range wanted {
			was[role] = out.Before[role]
		}
		if err := r.Before(was); err != nil {
			return out, err
		}
	}
	for _, e := range send {
		r.Doing("setting " + e.Token)
		var fault *onvif.Fault
		err := c.SetEncoder(ctx, e)
		switch {
		case errors.As(err, &fault):
			role := roleOf(wanted, e.Token)
			out.Refused = append(out.Refused, tuning.Refusal{Stream: role, Field: "setting", Asked: r.Plan[role].String(),
				Why: "the device says: " + fault.Reason})
			delete(wanted, role) // what was refused was not set
		case err != nil:
			return out, err
		}
	}
	r.Doing("reading back")
	back, err := Streams(ctx, c)
	if err != nil {
		return out, err
	}
	out.readBack(back, wanted, r.Plan)
	out.Tuned, out.Wanted = len(out.Refused) == 0, wanted
	if r.Prover == nil {
		return out, nil
	}
	for _, role := range camera.Roles {
		want, ok := wanted[role]
		if !ok {
			continue
		}
		i := slices.IndexFunc(back, func(s Stream) bool { return s.Role == role || s.Encoder.Token == want.Token })
		if i < 0 {
			continue
		}
		r.Doing("playing the " + role + " stream")
		if err := out.play(ctx, role, want, back[i].URL, r); err != nil {
			return out, err
		}
	}
	return out, nil
}

func roleOf(wanted map[string]tuning.Encoder, token string) string {
	for role, e := range wanted {
		if e.Token == token {
			return role
		}
	}
	return ""
}

// shared says which other streams go along, since they share the encoder's configuration.
func (out *Result) shared(role string, e tuning.Encoder, streams []Stream) {
	for _, s := range streams {
		if s.Encoder.Token == e.Token && s.Role != role {
			out.SideEffects = append(out.SideEffects, fmt.Sprintf("%s shares its encoder setting with %s: both change", s.Role, role))
		}
	}
}

// readBack tells what the device has made of the settings, and of streams that nobody touched.
func (out *Result) readBack(back []Stream, wanted map[string]tuning.Encoder, plan map[string]tuning.Stream) {
	for _, role := range camera.Roles {
		before, had := out.Before[role]
		i := slices.IndexFunc(back, func(s Stream) bool { return had && s.Encoder.Token == before.Token })
		if i < 0 {
			continue
		}
		now := back[i].Encoder
		out.ReadBack[role] = now
		to, sent := wanted[role]
		if !sent {
			to = before
		}
		_, differs, _ := tuning.Towards(role, to.Plan(), now, tuning.Options{})
		for _, d := range differs {
			text := fmt.Sprintf("%s: %s was set to %s and reads back as %s", role, d.Field, d.To, d.From)
			if _, asked := plan[role]; !asked {
				text = fmt.Sprintf("%s: %s went from %s to %s although nobody touched it: the streams share an encoder", role, d.Field,
					d.To, d.From)
			}
			out.SideEffects = append(out.SideEffects, text)
		}
	}
}

// play proves a stream until it is what was set, a few times.
func (out *Result) play(ctx context.Context, role string, want tuning.Encoder, at string, r Request) error {
	u, err := streamurl.Parse(at)
	if err != nil {
		out.Tuned = false
		out.Problems = append(out.Problems, role+": its stream URL is not known")
		return nil
	}
	var off []tuning.Difference
	for try := range plays {
		if try > 0 {
			select {
			case <-ctx.Done():
				return ctx.Err()
			case <-time.After(settleFor):
			}
		}
		proof := r.Prover.Prove(ctx, prove.Request{URL: u, SignIn: r.SignIn, Leave: r.Leave, Measure: measureFor(want)})
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if proof.Diagnosis != nil {
			off = []tuning.Difference{{Field: "picture", Set: "a picture", Got: "none"}}
			if try == plays-1 {
				out.Problems = append(out.Problems, role+": "+proof.Diagnosis.Summary)
			}
			continue
		}
		out.Measured[role] = proof.Video
		if off = tuning.Meets(r.Plan[role], want, measureOf(proof.Video)); len(off) == 0 {
			return nil
		}
	}
	out.Tuned = false
	if out.Off == nil {
		out.Off = map[string][]tuning.Difference{}
	}
	out.Off[role] = off
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

func measureOf(v *media.Measured) tuning.Measure {
	m := tuning.Measure{Codec: v.Codec, Width: v.Width, Height: v.Height, FPS: v.FPS, Kbps: v.BitrateKbps}
	if v.Keyframes < v.Frames {
		m.GOPFrames = v.GOPFrames
	}
	return m
}

// Services are the addresses at which a device service may be, of what a person types: ADDRESS or ADDRESS:PORT.
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
