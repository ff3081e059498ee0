package jobs

import (
	"context"
	"fmt"
	"net/netip"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/riverqueue/river"

	"unlatch/core/diagnose"
	"unlatch/core/discovery"
	"unlatch/core/evidence"
	"unlatch/core/ladder"
	"unlatch/core/onvif"
	"unlatch/core/recipe"
	"unlatch/core/signin"
	"unlatch/core/streamurl"
	"unlatch/store"
)

// PasteArgs takes one pasted URL, without its sign-in, and the recipe that explains it, and looks which of its siblings are there.
type PasteArgs struct {
	Run      uuid.UUID `json:"run"`
	Site     uuid.UUID `json:"site"`
	URL      string    `json:"url"`
	Shape    string    `json:"shape"`
	Recipe   string    `json:"recipe"`
	Channels int       `json:"channels"`
	SignIn   uuid.UUID `json:"sign_in"` // on the keyring; Nil for none
	Save     bool      `json:"save"`    // keep the recipe once it has found streams
	// Readable says that this person has agreed to send the sign-in so that it can be read, should the device want that.
	Readable uuid.UUID `json:"readable"`
}

// Kind implements river.JobArgs.
func (PasteArgs) Kind() string { return "paste" }

// Paste begins a run that finds the siblings of a pasted URL and proves them.
func (q *Queue) Paste(ctx context.Context, title string, p PasteArgs) (store.Run, error) {
	return begin(ctx, q, p.Site, "paste", title, int64(p.Channels)+1, []PasteArgs{p}, func(run uuid.UUID, p PasteArgs) river.JobArgs {
		p.Run = run
		return p
	})
}

type pasteWorker struct {
	river.WorkerDefaults[PasteArgs]
	env *env
}

func (w *pasteWorker) Work(ctx context.Context, job *river.Job[PasteArgs]) error {
	a := job.Args
	defer w.env.announce(a.Site, a.Run)
	u, err := streamurl.Parse(a.URL)
	if err != nil {
		return w.env.finish(ctx, a.Run, err)
	}
	addr, err := netip.ParseAddr(u.Host)
	if err != nil {
		return w.env.finish(ctx, a.Run, err)
	}
	// The device is on record before anything is asked of it.
	kind := discovery.Camera
	if a.Channels > 1 {
		kind = discovery.Recorder
	}
	port := discovery.Port{Number: uint16(u.DialPort()), Speaks: "rtsp", Named: true}
	x := discovery.Sighting{Method: discovery.Pasted, At: time.Now().UTC(), Addr: addr, Kind: kind, Ports: []discovery.Port{port}}
	var base uuid.UUID
	err = w.env.store.Keep(ctx, "a sighting", func(ctx context.Context) error {
		base, err = w.env.store.Sight(ctx, a.Site, &a.Run, x)
		return err
	})
	if err != nil {
		return w.env.finish(ctx, a.Run, err)
	}
	return w.env.onDevice(ctx, a.Run, base, func(o *deviceWork) error {
		if a.Readable != uuid.Nil && o.d.Status.Agreed.IsZero() {
			if err := w.env.store.Agree(ctx, store.Person{ID: a.Readable}, a.Site, []store.Device{*o.d}, store.ForDevices); err != nil {
				return &ownError{err}
			}
			o.d.Status.Agreed = time.Now()
		}
		return o.paste(ctx, a, u, port)
	})
}

// paste signs in once and asks for each channel's streams by the recipe. A channel whose streams are not there is none.
func (o *deviceWork) paste(ctx context.Context, a PasteArgs, u streamurl.URL, port discovery.Port) error {
	shape, err := recipe.Parse(a.Shape)
	if err != nil {
		return err
	}
	var in signin.SignIn
	body := evidence.SignedIn{StreamOnly: true, Scheme: "none"}
	if a.SignIn != uuid.Nil {
		if in, err = o.decrypt(ctx, a.SignIn); err != nil {
			return err
		}
		key, err := o.env.store.SignIn(ctx, a.SignIn)
		if err != nil {
			return err
		}
		body.SignIn, body.User, body.Label, body.Scheme = a.SignIn, in.User, key.Label, "by the stream service"
	}
	log := o.newLog()
	at := u
	at.SignIn, at.Path, at.Query = signin.SignIn{}, "", ""
	c, err := o.finder(at.String(), log)
	if err != nil {
		return err
	}
	defer c.Close()
	server, err := c.Ask(ctx)
	if err == nil && !in.Anonymous() {
		log.Know(in)
		c.Leave = o.leave(o.d, a.SignIn, store.Streams, nil)
		err = c.SignIn(ctx, in, u.Target())
	}
	reached := evidence.Reached{Addr: o.d.Status.Device.Addr, Stream: at.String(), Ladder: &server}
	diagnosis, err := explain(ctx, err, diagnose.Facts{Host: o.d.Addr, Port: u.DialPort(), Asking: "the stream service", User: in.User})
	if err != nil {
		return err
	}
	if diagnosis != nil {
		body.Diagnosis = diagnosis
		if refusedBy(diagnosis) || diagnosis.Cause == diagnose.Readable {
			return o.record(ctx, store.Finding{Exchange: log.String(), Body: body})
		}
		reached.Stream, reached.Ladder, reached.Diagnosis = "", nil, diagnosis
		return o.record(ctx, store.Finding{Exchange: log.String(), Body: reached})
	}
	var done pasted // what an earlier attempt has looked at
	if _, err := o.env.store.Cursor(ctx, o.run, &done); err != nil {
		return err
	}
	for n := done.Channel + 1; n <= a.Channels; n++ {
		done.Channel = n
		likely := ladder.Candidates(recipe.Stream, recipe.Device{}, n, []recipe.Recipe{{Name: a.Recipe, Shape: a.Shape, Path: shape, Purpose: recipe.Stream}})
		there, tried, err := c.Find(ctx, server, in, likely)
		if err != nil {
			return err
		}
		if len(there) == 0 {
			if err := o.step(ctx, done); err != nil {
				return err
			}
			continue
		}
		done.Found++
		d, err := o.channel(ctx, a, n, port)
		if err != nil {
			return err
		}
		located := evidence.Located{Addr: o.d.Status.Device.Addr, Recipe: a.Recipe, Shape: a.Shape, Tried: tried}
		for _, r := range there {
			located.Streams = append(located.Streams, onvif.Stream{Channel: n, Tier: onvif.Tiers[r.Values.Stream-1], Name: a.Recipe, URL: at.String() + r.Path, Service: "recipe"})
		}
		for _, f := range []store.Finding{{Body: reached}, {Body: body}, {Body: located, Exchange: log.String()}} {
			if err := d.record(ctx, f); err != nil {
				return err
			}
		}
		if err := d.openLater(ctx); err != nil {
			return err
		}
		// The channel's own job counts its step; here it is only how far this one has come.
		if err := o.env.store.SetCursor(ctx, o.run, done); err != nil {
			return err
		}
	}
	if done.Found == 0 {
		return o.record(ctx, store.Finding{Exchange: log.String(), Body: evidence.Located{Diagnosis: &diagnose.Diagnosis{Cause: diagnose.NoPath,
			Summary: fmt.Sprintf("The recipe %s gives no path that is there, of %d channels.", a.Shape, a.Channels), Fix: "Choose another reading of the URL, or check the channel in it.", Seen: string(server.Precedence)}}})
	}
	if a.Save {
		// What has found streams on the device is worth keeping, for devices alike by the word of their stream service.
		r := recipe.Recipe{Name: strings.TrimSpace(server.Server + " " + a.Shape), Purpose: recipe.Stream, Shape: a.Shape, Path: shape, Server: server.Server, Confidence: "likely",
			Note: fmt.Sprintf("Learned from a pasted URL; found %d of %d channels at %s.", done.Found, a.Channels, o.d.Addr)}
		err := o.env.store.Keep(ctx, "a recipe", func(ctx context.Context) error {
			_, _, err := o.env.store.MergeBook(ctx, &recipe.Book{Name: store.LearnedBook, Recipes: []recipe.Recipe{r}})
			return err
		})
		if err != nil {
			return err
		}
	}
	if a.Channels > 1 {
		for _, f := range []store.Finding{{Body: reached}, {Body: body}} {
			if err := o.record(ctx, f); err != nil {
				return err
			}
		}
	}
	return nil
}

// pasted is how far the channels of a paste were looked at.
type pasted struct {
	Channel int `json:"channel"` // the last one
	Found   int `json:"found"`
}

// step counts one channel that is none, and keeps that it was looked at.
func (o *deviceWork) step(ctx context.Context, done pasted) error {
	return o.env.store.Keep(ctx, "the progress of a run", func(ctx context.Context) error { return o.env.store.StepTo(ctx, o.run, done) })
}

func refusedBy(d *diagnose.Diagnosis) bool {
	return d.Cause == diagnose.WrongSignIn || d.Cause == diagnose.NoSignIn
}

// channel is the device that a channel's evidence belongs to: the pasted device itself where there is only one, else a device reached
// through it.
func (o *deviceWork) channel(ctx context.Context, a PasteArgs, n int, port discovery.Port) (*deviceWork, error) {
	if a.Channels == 1 {
		return o, nil
	}
	x := discovery.Sighting{Method: discovery.Pasted, At: time.Now().UTC(), Addr: o.d.Status.Device.Addr, Kind: discovery.Camera, Name: fmt.Sprintf("Channel %d", n),
		Ports: []discovery.Port{port}, Via: &o.d.ID, Channel: n, Of: o.d.Title()}
	id, err := o.sight(ctx, x)
	if err != nil {
		return nil, err
	}
	d, err := o.env.store.Device(ctx, id)
	if err == nil && !o.d.Status.Agreed.IsZero() && d.Status.Agreed.IsZero() { // what was agreed for the device holds for its channels
		err = o.env.store.Agree(ctx, store.Person{}, o.site.ID, []store.Device{*d}, store.ForDevices)
	}
	return &deviceWork{env: o.env, d: d, site: o.site, run: o.run, attended: o.attended, secrets: o.secrets, guard: o.guard}, err
}
