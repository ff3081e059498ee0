package bringup

import (
	"context"
	"fmt"
	"slices"

	"unlatch/core/decide/diagnose"
	"unlatch/core/decide/evidence"
	"unlatch/core/ground/trouble"
	"unlatch/core/stream/camera"
	"unlatch/core/stream/sighting"
)

// A locateStep asks a device for its streams and their URLs.
type locateStep struct{ *Work }

// locate asks the device for its streams and their URLs. What a device that is too slow has told is kept, and not asked for again.
func (w locateStep) locate(ctx context.Context) error {
	if w.streamOnly() {
		return pathSearch(w).findPaths(ctx)
	}
	streams, user, err := w.streamURLs(ctx)
	if err == nil && len(streams) == 0 {
		err = &diagnose.PictureError{Cause: trouble.NoProfiles}
	}
	body := evidence.Located{Addr: w.d.Status.Device.Addr, Streams: streams}
	if slow := outOfTime(ctx, fmt.Sprintf("%d stream URLs", len(streams))); slow != nil && err != nil {
		body.Diagnosis = slow
		return w.Keep(ctx, Finding{Body: body})
	}
	if body.Diagnosis, err = Explain(ctx, err, w.facts(w.d.Status.Device.XAddr, "the device service", user)); err != nil {
		return err
	}
	return w.Keep(ctx, Finding{Body: body})
}

// claimsAnew asks the device how its streams are set now. Where each was found stays, which may be another place than the device names. A
// device that has other streams than before is asked for everything again; one that does not answer is left to the proof that follows.
func (w locateStep) claimsAnew(ctx context.Context) error {
	c, in, err := w.signedClient(ctx)
	var profiles []camera.Stream
	if err == nil {
		profiles, err = w.profiles(ctx, c)
	}
	diagnosis, err := Explain(ctx, err, w.facts(w.d.Status.Device.XAddr, "the device service", in.User))
	if err != nil || diagnosis != nil || w.d.Status.Located == nil {
		return err
	}
	body := *w.d.Status.Located
	body.Streams = camera.Named(w.d.Status.Streams)
	now := camera.GiveRoles(profiles, w.roles())
	changed := false
	for i := range body.Streams {
		st := &body.Streams[i]
		j := slices.IndexFunc(now, func(s camera.Stream) bool { return s.Token == st.Token && s.Channel == st.Channel })
		if j < 0 || len(now) != len(body.Streams) {
			if err := w.locate(ctx); err != nil {
				return err
			}
			return w.Read(ctx)
		}
		changed = changed || st.Claimed != now[j].Claimed
		st.Claimed = now[j].Claimed
	}
	if !changed {
		return nil
	}
	if err := w.Keep(ctx, Finding{Body: body}); err != nil {
		return err
	}
	return w.Read(ctx)
}

// profiles returns the device's streams, of a camera on a recorder's switch those of its channel.
func (w locateStep) profiles(ctx context.Context, c *client) ([]camera.Stream, error) {
	list, err := c.Profiles(ctx)
	if w.d.Via != nil {
		list = slices.DeleteFunc(list, func(s camera.Stream) bool { return s.Channel != w.d.Channel })
	}
	return list, err
}

// streamURLs returns the streams that the device names, with the roles that they had before. On an error those that were found until then
// are returned too.
func (w locateStep) streamURLs(ctx context.Context) (out []camera.Stream, user string, err error) {
	c, in, err := w.signedClient(ctx)
	if err != nil {
		return nil, in.User, err
	}
	profiles, err := w.profiles(ctx, c)
	if err != nil {
		return nil, in.User, err
	}
	var have []camera.Stream
	if l := w.d.Status.Located; l != nil && l.Diagnosis != nil && l.Diagnosis.Cause == trouble.TooSlow {
		have = l.Streams
	}
	for _, s := range camera.GiveRoles(profiles, w.roles()) {
		known := slices.IndexFunc(have, func(h camera.Stream) bool {
			return h.Token == s.Token && h.Channel == s.Channel && h.Claimed == s.Claimed && h.URL != ""
		})
		if known >= 0 {
			out = append(out, have[known])
			continue
		}
		if err := c.StreamURL(ctx, &s); err != nil {
			return out, in.User, err
		}
		out = append(out, s)
	}
	return out, in.User, nil
}

// channels asks a recorder what it sends on. A camera that hangs on its own switch becomes a device of the site, reached through it; one
// that stands in the site's ranges is heard by itself.
func (w locateStep) channels(ctx context.Context) error {
	c, in, err := w.signedClient(ctx)
	var found []camera.Channel
	if err == nil {
		found, err = c.Channels(ctx)
	}
	diagnosis, err := Explain(ctx, err, w.facts(w.d.Status.Device.XAddr, "the recorder", in.User))
	if err != nil || diagnosis == nil && len(found) == 0 && len(w.d.Status.Channels) == 0 {
		return err
	}
	if err := w.Keep(ctx, Finding{Body: evidence.Channels{Channels: found, Diagnosis: diagnosis}}); err != nil {
		return err
	}
	dev := w.d.Status.Device
	for _, ch := range found {
		if w.Guard.Allowed.Contains(ch.Camera) {
			continue
		}
		x := sighting.Sighting{Method: sighting.ByRecorder, At: w.now(), Addr: dev.Addr, Stray: dev.Stray, Kind: sighting.Camera,
			Name: ch.Name, Location: ch.Place, XAddr: dev.XAddr, Via: &w.d.ID, Channel: ch.Number, Of: w.d.Title, Page: ch.Page}
		if x.Name == "" {
			x.Name = fmt.Sprintf("Channel %d", ch.Number)
		}
		if ch.Camera.IsValid() {
			x.Camera = ch.Camera.String()
		}
		if _, err := w.Record.Sight(ctx, x); err != nil {
			return err
		}
	}
	return nil
}
