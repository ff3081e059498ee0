package jobs

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"unlatch/core/diagnose"
	"unlatch/core/evidence"
	"unlatch/core/exchange"
	"unlatch/core/ladder"
	"unlatch/core/onvif"
	"unlatch/core/recipe"
	"unlatch/core/signin"
	"unlatch/core/streamurl"
	"unlatch/store"
)

// streamOnly reports whether the device has a stream service and nothing else to ask.
func (o *deviceWork) streamOnly() bool { r := o.d.Status.Reached; return r != nil && r.Stream != "" }

// reachStream asks the stream service of a device that has no device service how it judges requests.
func (o *deviceWork) reachStream(ctx context.Context) error {
	body := evidence.Reached{Addr: o.d.Status.Device.Addr}
	port := o.rtspPort()
	if port == 0 {
		body.Diagnosis = &diagnose.Diagnosis{Cause: diagnose.NotONVIF, Summary: fmt.Sprintf("%s has no device service that answers, and no stream port is known.", o.d.Addr),
			Fix: "Switch ONVIF or RTSP on in the device's network settings, then sweep again.", Seen: "no port answered GetSystemDateAndTime, and none spoke RTSP"}
		return o.record(ctx, store.Finding{Body: body})
	}
	at := "rtsp://" + netip.AddrPortFrom(body.Addr, port).String()
	log := o.newLog()
	c, err := o.finder(at, log)
	if err != nil {
		return err
	}
	defer c.Close()
	server, err := c.Ask(ctx)
	if body.Diagnosis, err = explain(ctx, err, diagnose.Facts{Host: o.d.Addr, Port: int(port), Asking: "the stream service"}); err != nil {
		return err
	}
	if body.Diagnosis == nil {
		body.Stream, body.Ladder = at, &server
	}
	return o.record(ctx, store.Finding{Exchange: log.String(), Body: body})
}

// rtspPort is the port at which something spoke RTSP; what the device itself has named goes before what was found open.
func (o *deviceWork) rtspPort() uint16 {
	var open uint16
	for _, p := range o.d.Status.Device.Ports {
		if p.Speaks != "rtsp" {
			continue
		}
		if p.Named {
			return p.Number
		}
		if open == 0 {
			open = p.Number
		}
	}
	return open
}

func (o *deviceWork) finder(at string, log *exchange.Log) (*ladder.Finder, error) {
	u, err := streamurl.Parse(at)
	return &ladder.Finder{Dial: o.guard, At: u, Log: log, Doing: func(path string) {
		o.env.store.Progress(context.Background(), o.run, fmt.Sprintf("%s: trying %s", o.d.Title(), path), -1)
	}}, err
}

// likelyPaths are the paths to try for streams: shapes that work on a device alike first, then what the path books say.
func (o *deviceWork) likelyPaths(ctx context.Context) ([]ladder.Candidate, error) {
	sisters, err := o.alike(ctx)
	if err != nil {
		return nil, err
	}
	return o.likelyPathsFor(ctx, recipe.Stream, sisters)
}

// likelyPathsFor are the paths that the books have for one purpose, the likeliest first.
func (o *deviceWork) likelyPathsFor(ctx context.Context, purpose recipe.Purpose, first []recipe.Recipe) ([]ladder.Candidate, error) {
	books, err := o.env.store.Books(ctx)
	if err != nil {
		return nil, err
	}
	d := recipe.Device{Maker: o.d.Status.Device.Maker, Model: o.d.Status.Device.Hardware}
	if in := o.d.Status.SignedIn; in != nil && in.Info.Manufacturer != "" {
		d.Maker, d.Model = in.Info.Manufacturer, in.Info.Model
	}
	if r := o.d.Status.Reached; r != nil && r.Ladder != nil {
		d.Server, d.Realm = r.Ladder.Server, r.Ladder.Realm
	}
	return ladder.Candidates(purpose, d, max(o.d.Channel, 1), first, books...), nil
}

// alike are the shapes by which other devices of the site with the same stream service were proven.
func (o *deviceWork) alike(ctx context.Context) ([]recipe.Recipe, error) {
	all, err := o.env.store.Devices(ctx, o.d.Site)
	if err != nil {
		return nil, err
	}
	var out []recipe.Recipe
	for i := range all {
		st := &all[i].Status
		if all[i].ID == o.d.ID || st.Located == nil || st.Located.Shape == "" || st.Reached == nil || st.Reached.Ladder == nil || st.Reached.Ladder.Server != o.d.Status.Reached.Ladder.Server {
			continue
		}
		if t, err := recipe.Parse(st.Located.Shape); err == nil {
			out = append(out, recipe.Recipe{Name: st.Located.Recipe, Shape: st.Located.Shape, Path: t, Purpose: recipe.Stream})
		}
	}
	return out, nil
}

// signInStream opens the stream service. Where it judges the sign-in first, no path need be known for that; where it judges the path
// first, one that is there is looked for without any sign-in.
func (o *deviceWork) signInStream(ctx context.Context) error {
	log := o.newLog()
	c, err := o.finder(o.d.Status.Reached.Stream, log)
	if err != nil {
		return err
	}
	defer c.Close()
	server := *o.d.Status.Reached.Ladder
	path := ""
	switch server.Precedence {
	case ladder.AnyPath:
		return o.signedIn(ctx, evidence.SignedIn{StreamOnly: true, Scheme: "none"}, log)
	case ladder.PathFirst:
		likely, err := o.likelyPaths(ctx)
		if err != nil {
			return err
		}
		found, tried, err := c.Find(ctx, server, signin.SignIn{}, likely)
		if err != nil {
			return o.notSignedIn(ctx, evidence.SignedIn{StreamOnly: true}, err, "", log)
		}
		if len(found) > 0 {
			o.foundPath = &foundPath{recipe: found[0].Recipe, tried: tried}
		}
		if len(found) == 0 || !asked(tried, found[0].Path) {
			return o.signedIn(ctx, evidence.SignedIn{StreamOnly: true, Scheme: "none"}, log) // nothing has asked for one
		}
		path = found[0].Path
	}
	return o.tryKeys(ctx, store.Streams, log, func(_ store.SignIn, in signin.SignIn, leave signin.Leave) (evidence.SignedIn, error) {
		c.Leave = leave
		err := c.SignIn(ctx, in, path)
		return evidence.SignedIn{StreamOnly: true, Scheme: "by the stream service"}, err
	})
}

// foundPath is the recipe whose paths are there, with the paths that were tried until it was found.
type foundPath struct {
	recipe string
	tried  []ladder.Tried
}

// asked reports whether a path answered that it wants a sign-in.
func asked(tried []ladder.Tried, path string) bool {
	for _, t := range tried {
		if t.Path == path {
			return t.Status == 401
		}
	}
	return false
}

// findPaths finds the stream paths by trying the likely ones.
func (o *deviceWork) findPaths(ctx context.Context) error {
	in, err := o.signInOf(ctx, o.d)
	if err != nil {
		return err
	}
	log := o.newLog()
	c, err := o.finder(o.d.Status.Reached.Stream, log)
	if err != nil {
		return err
	}
	defer c.Close()
	likely, err := o.likelyPaths(ctx)
	if err != nil {
		return err
	}
	var before []ladder.Tried
	if o.foundPath != nil { // only its own paths are asked for again, signed in this time
		likely = slices.DeleteFunc(likely, func(r ladder.Candidate) bool { return r.Recipe != o.foundPath.recipe })
		before = slices.DeleteFunc(o.foundPath.tried, func(t ladder.Tried) bool { return t.Recipe == o.foundPath.recipe })
	}
	if s := o.d.Status.SignedIn; s != nil {
		c.Leave = o.leave(o.d, s.SignIn, store.Streams, nil)
	}
	found, tried, err := c.Find(ctx, *o.d.Status.Reached.Ladder, in, likely)
	body := evidence.Located{Addr: o.d.Status.Device.Addr, Tried: append(before, tried...)}
	if body.Diagnosis, err = explain(ctx, err, diagnose.Facts{Host: o.d.Addr, Port: c.At.DialPort(), Asking: "the stream service", User: in.User}); err != nil {
		return err
	}
	if body.Diagnosis == nil && len(found) == 0 {
		body.Diagnosis = &diagnose.Diagnosis{Cause: diagnose.NoPath, Summary: fmt.Sprintf("None of the %d likely paths is there. The device has no device service to ask.", len(tried)),
			Fix: "Copy a URL that plays elsewhere, or find its shape in the maker's papers, and put a recipe for it into a path book.", Seen: statuses(tried)}
	}
	for i, r := range found {
		if body.Diagnosis != nil || i == len(onvif.Tiers) {
			break
		}
		body.Recipe, body.Shape = r.Recipe, r.Shape
		body.Streams = append(body.Streams, onvif.Stream{Channel: r.Values.Channel, Tier: onvif.Tiers[r.Values.Stream-1], Name: r.Recipe, URL: c.At.String() + r.Path, Service: "recipe"})
	}
	return o.record(ctx, store.Finding{Exchange: log.String(), Body: body})
}

// statuses counts the answers: "404 ×12, 401 ×1".
func statuses(tried []ladder.Tried) string {
	counts := map[int]int{}
	var order []int
	for _, t := range tried {
		if counts[t.Status]++; counts[t.Status] == 1 {
			order = append(order, t.Status)
		}
	}
	var out []string
	for _, s := range order {
		out = append(out, fmt.Sprintf("%d ×%d", s, counts[s]))
	}
	return strings.Join(out, ", ")
}
