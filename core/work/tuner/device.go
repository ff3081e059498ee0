package tuner

import (
	"context"
	"errors"
	"slices"
	"time"

	"unlatch/core/stream/camera"
	"unlatch/core/stream/tuning"
	"unlatch/core/wire/onvif"
)

// A Stream is one stream of a device with its encoder and what that offers.
type Stream struct {
	Role    string         `json:"role"`
	Token   string         `json:"token"`
	Name    string         `json:"name,omitempty"`
	URL     string         `json:"url" doc:"without a sign-in"`
	Encoder tuning.Encoder `json:"encoder"`
	Offers  tuning.Options `json:"offers"`
	Audio   tuning.Audio   `json:"audio,omitzero"`
	Problem string         `json:"problem,omitempty" doc:"why it is not known what the encoder offers"`
}

// A View is what a device has and offers, as it was read at one time.
type View struct {
	Streams   []Stream        `json:"streams"`
	Instances int             `json:"instances,omitempty" doc:"streams at once by the device's own word"`
	Makes     bool            `json:"makes,omitempty" doc:"a stream that it does not have can be made"`
	Overlays  tuning.Overlays `json:"overlays,omitzero"`

	encoders []onvif.EncoderOf // of the streams, in their order
	free     []tuning.Encoder  // that no profile uses
	source   string            // the video source configuration
}

// Offers returns the view as a plan is weighed against it.
func (v *View) Offers() tuning.Offers {
	out := tuning.Offers{Streams: []tuning.Offer{}, Instances: v.Instances, Makes: v.Makes, Overlays: v.Overlays}
	for _, s := range v.Streams {
		out.Streams = append(out.Streams, tuning.Offer{Role: s.Role, Token: s.Token, Encoder: s.Encoder, Options: s.Offers, Audio: s.Audio,
			Problem: s.Problem})
	}
	return out
}

// of returns the place of a role's stream; below 0 where there is none.
func (v *View) of(role string) int {
	return slices.IndexFunc(v.Streams, func(s Stream) bool { return s.Role == role })
}

// A Camera says which streams of a device are meant.
type Camera struct {
	Channel int               // of a recorder, counted from 1; 0 for 1
	Roles   map[string]string // that streams have already, by token
}

// Read asks a device for its streams and all that they offer. The client knows the device's clock already, see onvif.Client.Clock.
func Read(ctx context.Context, c *onvif.Client, of Camera) (*View, error) {
	v, err := readStreams(ctx, c, of)
	if err != nil {
		return nil, err
	}
	for i := range v.Streams {
		s := &v.Streams[i]
		if s.Offers, err = c.EncoderOptions(ctx, v.encoders[i]); err != nil {
			s.Problem = err.Error()
		}
		if s.Audio.Token != "" {
			s.Audio.Codecs, _ = c.AudioOptions(ctx, v.encoders[i])
		}
	}
	// What follows is asked of devices that may know nothing of it: their no is an answer.
	if v.source != "" && of.Channel <= 1 {
		v.Instances, _ = c.Instances(ctx, v.source)
		v.Overlays, _ = c.Overlays(ctx, v.source)
		v.readFree(ctx, c)
	}
	return v, ctx.Err()
}

func (v *View) readFree(ctx context.Context, c *onvif.Client) {
	all, err := c.VideoEncoders(ctx)
	if err != nil {
		return
	}
	for _, e := range all {
		if !slices.ContainsFunc(v.encoders, func(o onvif.EncoderOf) bool { return o.Token == e.Token }) {
			v.free = append(v.free, e)
		}
	}
	v.Makes = len(v.free) > 0
}

// readStreams asks for the streams alone, with how they are set.
func readStreams(ctx context.Context, c *onvif.Client, of Camera) (*View, error) {
	list, err := c.Profiles(ctx)
	if err != nil {
		return nil, err
	}
	encoders, err := c.Encoders(ctx)
	if err != nil {
		return nil, err
	}
	list = slices.DeleteFunc(list, func(s camera.Stream) bool { return s.Channel != max(1, of.Channel) })
	v := &View{Streams: []Stream{}}
	for _, s := range camera.GiveRoles(list, of.Roles) {
		i := slices.IndexFunc(encoders, func(e onvif.EncoderOf) bool { return e.Profile == s.Token })
		if i < 0 {
			continue
		}
		e := encoders[i]
		one := Stream{Role: s.Role, Token: s.Token, Name: s.Name, Encoder: e.Encoder,
			Audio: tuning.Audio{Token: e.AudioToken, Codec: e.AudioCodec}}
		if err := c.StreamURL(ctx, &s); err == nil {
			one.URL = s.URL
		} else if fault := new(onvif.Fault); !errors.As(err, &fault) {
			return nil, err
		}
		v.Streams, v.encoders = append(v.Streams, one), append(v.encoders, e)
		if v.source == "" {
			v.source = e.Source
		}
	}
	return v, nil
}

// Restart has a device start anew and waits until it answers again; patience is for how long, 0 for a minute and a half.
func Restart(ctx context.Context, c *onvif.Client, of Camera, patience time.Duration) error {
	if patience == 0 {
		patience = 90 * time.Second
	}
	if err := c.Reboot(ctx); err != nil {
		if fault := new(onvif.Fault); errors.As(err, &fault) || ctx.Err() != nil {
			return err
		}
	}
	w := &work{Request: Request{Camera: of, Doing: func(string) {}, Patience: patience, Sleep: sleep}, c: c}
	if err := w.Sleep(ctx, 2*settleFor); err != nil { // it answers for a moment yet before it goes
		return err
	}
	return w.wait(ctx)
}
