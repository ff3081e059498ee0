package jobs

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"strings"
	"time"

	"github.com/google/uuid"

	"unlatch/core/decide/act"
	"unlatch/core/decide/command"
	"unlatch/core/decide/diagnose"
	"unlatch/core/decide/evidence"
	"unlatch/core/ground/address"
	"unlatch/core/ground/signin"
	"unlatch/core/ground/streamurl"
	"unlatch/core/ground/trouble"
	"unlatch/core/stream/recipe"
	"unlatch/core/stream/sighting"
	"unlatch/core/work/bringup"
	"unlatch/store"
)

// paste carries out command.Paste: it puts the device on record, signs in once, and asks for each channel's streams.
func (e *env) paste(ctx context.Context, run, site uuid.UUID, a command.Paste) error {
	u, err := streamurl.Parse(a.URL)
	if err != nil {
		return e.finish(ctx, run, err)
	}
	addr, err := e.whoSends(ctx, run, site, u)
	if err != nil {
		return e.finish(ctx, run, err)
	}
	// The device is on record before anything is asked of it.
	kind := sighting.Camera
	if a.Channels > 1 {
		kind = sighting.Recorder
	}
	x := sighting.Sighting{Method: sighting.Pasted, At: time.Now().UTC(), Addr: addr, Kind: kind}
	port := sighting.Port{Number: uint16(u.DialPort()), Speaks: "rtsp", Named: true}
	if u.HTTP() {
		port.Speaks = u.Scheme
	}
	if !u.Datagrams() {
		x.Ports = []sighting.Port{port}
	}
	var base uuid.UUID
	err = e.store.Keep(ctx, "a sighting", func(ctx context.Context) error {
		base, err = e.store.Devices.Sight(ctx, site, &run, x)
		return err
	})
	if err != nil {
		return e.finish(ctx, run, err)
	}
	return e.onDevice(ctx, run, base, func(d *deviceJob) error {
		if a.Readable != uuid.Nil && d.Device().Status.Agreed.IsZero() {
			if err := d.agree(ctx, act.Person{ID: a.Readable}); err != nil {
				return err
			}
		}
		if u.RTSP() {
			return d.paste(ctx, a, u, port)
		}
		if err := d.Give(ctx, u); err != nil {
			return err
		}
		return d.openLater(ctx)
	})
}

// whoSends returns the address of the device that a URL leads to. For a stream of datagrams it is the sender's.
func (e *env) whoSends(ctx context.Context, run, site uuid.UUID, u streamurl.URL) (netip.Addr, error) {
	if !u.Datagrams() {
		return netip.ParseAddr(u.Host)
	}
	if u.Source != "" {
		return netip.ParseAddr(u.Source)
	}
	s, err := e.store.Sites.Get(ctx, site)
	if err != nil {
		return netip.Addr{}, err
	}
	e.store.Runs.Progress(ctx, run, "listening to "+u.String(), -1)
	from, err := bringup.SenderOf(ctx, &address.Guard{Allowed: s.Ranges}, u, nil)
	if err != nil && ctx.Err() == nil {
		d := diagnose.Explain(err, diagnose.Facts{Asking: "the stream"})
		err = errors.New(d.Summary + " " + d.Fix)
	}
	return from, err
}

// agree keeps that a person has agreed to send the sign-in readable, where the device wants that.
func (d *deviceJob) agree(ctx context.Context, by act.Person) error {
	dev := d.Device()
	if err := d.env.store.Consents.Agree(ctx, by, d.site.ID,
		act.Readable{Device: dev.ID, Clear: dev.Status.AgreesTo() == signin.InClear}); err != nil {
		return err
	}
	dev.Status.Agreed, dev.Status.AgreedTo = time.Now(), dev.Status.AgreesTo()
	return nil
}

// paste signs in once and asks for each channel's streams by the recipe. A channel whose streams are not there is none.
func (d *deviceJob) paste(ctx context.Context, a command.Paste, u streamurl.URL, port sighting.Port) error {
	at := u
	at.SignIn, at.Path, at.Query = signin.SignIn{}, "", ""
	c, err := d.Finder(at.String())
	if err != nil {
		return err
	}
	defer c.Close()
	opened, shut, err := d.OpenStreamService(ctx, c, a.SignIn, u.Target())
	if err != nil || shut {
		return err
	}
	shape, err := recipe.Parse(a.Shape)
	if err != nil {
		return err
	}
	learned := recipe.Recipe{Name: a.Recipe, Shape: a.Shape, Path: shape, Purpose: recipe.Stream}
	var done pasted // what an earlier attempt has looked at
	if _, err := d.env.store.Runs.Cursor(ctx, d.run, &done); err != nil {
		return err
	}
	if a.Channels > 1 && done.Channel == 0 { // before any channel is opened: how the recorder is asked about it depends on this
		for _, f := range []bringup.Finding{{Body: opened.Reached}, {Body: opened.SignedIn}} {
			if err := d.Keep(ctx, f); err != nil {
				return err
			}
		}
	}
	for n := done.Channel + 1; n <= a.Channels; n++ {
		done.Channel = n
		located, err := d.ChannelPaths(ctx, c, opened, learned, n)
		if err != nil {
			return err
		}
		if len(located.Streams) == 0 {
			if err := d.step(ctx, done); err != nil {
				return err
			}
			continue
		}
		done.Found++
		channel, err := d.channel(ctx, a, n, port)
		if err != nil {
			return err
		}
		for _, f := range []bringup.Finding{{Body: opened.Reached}, {Body: opened.SignedIn}, {Body: located, Exchange: d.Log().String()}} {
			if err := channel.Keep(ctx, f); err != nil {
				return err
			}
		}
		if err := channel.openLater(ctx); err != nil {
			return err
		}
		// The channel's own job counts its step; here it is only how far this one has come.
		if err := d.env.store.Runs.SetCursor(ctx, d.run, done); err != nil {
			return err
		}
	}
	if done.Found == 0 {
		return d.Keep(ctx, bringup.Finding{Body: evidence.Located{Diagnosis: &diagnose.Diagnosis{Cause: trouble.NoPath,
			Summary: fmt.Sprintf("The recipe %s gives no path that is there, of %d channels.", a.Shape, a.Channels),
			Fix:     "Choose another reading of the URL, or check the channel in it.",
			Seen:    string(opened.Reached.StreamServer.Precedence)}}})
	}
	if a.Save {
		if err := d.learn(ctx, learned, opened.Reached.StreamServer.Server, done.Found, a.Channels); err != nil {
			return err
		}
	}
	return nil
}

// learn puts a recipe that has found streams into the path book of what was learned, for devices alike by the word of their stream service.
// A worker elsewhere learns nothing for all sites.
func (d *deviceJob) learn(ctx context.Context, r recipe.Recipe, server string, found, of int) error {
	if d.env.store.IsFar() {
		return nil
	}
	r.Name, r.Server, r.Confidence = strings.TrimSpace(server+" "+r.Shape), server, "likely"
	r.Note = fmt.Sprintf("Learned from a pasted URL; found %d of %d channels at %s.", found, of, d.Device().Addr)
	return d.env.store.Keep(ctx, "a recipe", func(ctx context.Context) error {
		_, _, err := d.env.store.Books.Merge(ctx, &recipe.Book{Name: store.LearnedBook, Recipes: []recipe.Recipe{r}})
		return err
	})
}

// pasted is how far the channels of a paste were looked at.
type pasted struct {
	Channel int `json:"channel"` // the last one
	Found   int `json:"found"`
}

// step counts one channel that is none, and keeps that it was looked at.
func (d *deviceJob) step(ctx context.Context, done pasted) error {
	return d.env.store.Keep(ctx, "the progress of a run", func(ctx context.Context) error {
		return d.env.store.Runs.StepTo(ctx, d.run,
			done)
	})
}

// channel returns the device that a channel's evidence belongs to: the pasted device itself where there is only one, else a device reached
// through it.
func (d *deviceJob) channel(ctx context.Context, a command.Paste, n int, port sighting.Port) (*deviceJob, error) {
	if a.Channels == 1 {
		return d, nil
	}
	dev := d.Device()
	x := sighting.Sighting{Method: sighting.Pasted, At: time.Now().UTC(), Addr: dev.Status.Device.Addr, Kind: sighting.Camera,
		Name: fmt.Sprintf("Channel %d", n), Ports: []sighting.Port{port}, Via: &dev.ID, Channel: n, Of: dev.Title}
	id, err := record{d}.Sight(ctx, x)
	if err != nil {
		return nil, err
	}
	known, err := d.env.store.Devices.Get(ctx, id)
	if err != nil {
		return nil, err
	}
	out := *d
	out.Work = d.With(known.Latch())
	if !dev.Status.Agreed.IsZero() && known.Status.Agreed.IsZero() { // what was agreed for the device holds for its channels
		err = out.agree(ctx, act.Person{})
	}
	return &out, err
}
