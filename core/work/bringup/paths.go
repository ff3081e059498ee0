package bringup

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"unlatch/core/decide/diagnose"
	"unlatch/core/decide/evidence"
	"unlatch/core/decide/latch"
	"unlatch/core/ground/signin"
	"unlatch/core/ground/streamurl"
	"unlatch/core/ground/trouble"
	"unlatch/core/stream/camera"
	"unlatch/core/stream/recipe"
	"unlatch/core/wire/pathprobe"
)

// A pathSearch tries likely paths on a camera that tells none.
type pathSearch struct{ *Work }

// likelyPaths returns the paths to try for streams: shapes that work on a device alike first, then what the path books say.
func (w pathSearch) likelyPaths(ctx context.Context) ([]pathprobe.Candidate, error) {
	all, err := w.Record.Neighbours(ctx)
	if err != nil {
		return nil, &OwnError{err}
	}
	return w.likelyPathsFor(ctx, recipe.Stream, shapesOfSisters(w.d, all))
}

// likelyPathsFor returns the paths that the books have for one purpose, the likeliest first.
func (w pathSearch) likelyPathsFor(ctx context.Context, purpose recipe.Purpose, first []recipe.Recipe) ([]pathprobe.Candidate, error) {
	books, err := w.Record.Books(ctx)
	if err != nil {
		return nil, &OwnError{err}
	}
	d := recipe.Device{Maker: w.d.Status.Device.Maker, Model: w.d.Status.Device.Hardware}
	if in := w.d.Status.SignedIn; in != nil && in.Info.Manufacturer != "" {
		d.Maker, d.Model = in.Info.Manufacturer, in.Info.Model
	}
	if r := w.d.Status.Reached; r != nil && r.StreamServer != nil {
		d.Server, d.Realm = r.StreamServer.Server, r.StreamServer.Realm
	}
	return pathprobe.Candidates(purpose, d, max(w.d.Channel, 1), first, books...), nil
}

// shapesOfSisters returns the shapes by which the paths of other devices of the site with the same stream service were found.
func shapesOfSisters(d *latch.Device, all []latch.Device) (out []recipe.Recipe) {
	for i := range all {
		st := &all[i].Status
		if all[i].ID == d.ID || st.Located == nil || st.Located.Shape == "" || !sameServer(st.Reached, d.Status.Reached) {
			continue
		}
		if t, err := recipe.Parse(st.Located.Shape); err == nil {
			out = append(out, recipe.Recipe{Name: st.Located.Recipe, Shape: st.Located.Shape, Path: t, Purpose: recipe.Stream})
		}
	}
	return out
}

// sameServer reports whether two stream services call themselves the same.
func sameServer(a, b *evidence.Reached) bool {
	return a != nil && b != nil && a.StreamServer != nil && b.StreamServer != nil && a.StreamServer.Server == b.StreamServer.Server
}

// signInStream opens the stream service. Where it judges the sign-in first, no path need be known for that; where it judges the path
// first, one that is there is looked for without any sign-in.
func (w pathSearch) signInStream(ctx context.Context) error {
	c, err := w.Finder(w.d.Status.Reached.Stream)
	if err != nil {
		return err
	}
	defer c.Close()
	server := *w.d.Status.Reached.StreamServer
	path := ""
	switch server.Precedence {
	case camera.AnyPath:
		return signInStep(w).signedIn(ctx, evidence.SignedIn{StreamOnly: true, Scheme: "none"})
	case camera.PathFirst:
		likely, err := w.likelyPaths(ctx)
		if err != nil {
			return err
		}
		found, tried, err := c.Find(ctx, server, signin.SignIn{}, likely)
		if err != nil {
			return signInStep(w).notSignedIn(ctx, evidence.SignedIn{StreamOnly: true}, err, "")
		}
		if len(found) > 0 {
			w.foundPath = &foundPath{recipe: found[0].Recipe, tried: tried}
		}
		if len(found) == 0 || !wasAsked(tried, found[0].Path) {
			return signInStep(w).signedIn(ctx, evidence.SignedIn{StreamOnly: true, Scheme: "none"}) // nothing has asked for one
		}
		path = found[0].Path
	}
	return signInStep(w).tryKeys(ctx, signin.Streams, func(_ Key, in signin.SignIn, leave signin.Leave) (evidence.SignedIn, error) {
		c.Leave = leave
		err := c.SignIn(ctx, in, path)
		return evidence.SignedIn{StreamOnly: true, Scheme: "by the stream service"}, err
	})
}

// foundPath is the recipe whose paths are there, with the paths that were tried until it was found.
type foundPath struct {
	recipe string
	tried  []camera.TriedPath
}

// wasAsked reports whether a path answered that it wants a sign-in.
func wasAsked(tried []camera.TriedPath, path string) bool {
	for _, t := range tried {
		if t.Path == path {
			return t.Status == 401
		}
	}
	return false
}

// findPaths finds the stream paths by trying the likely ones.
func (w pathSearch) findPaths(ctx context.Context) error {
	in, err := w.signInOf(ctx, w.d)
	if err != nil {
		return err
	}
	c, err := w.Finder(w.d.Status.Reached.Stream)
	if err != nil {
		return err
	}
	defer c.Close()
	likely, err := w.likelyPaths(ctx)
	if err != nil {
		return err
	}
	var before []camera.TriedPath
	if w.foundPath != nil { // only its own paths are asked for again, signed in this time
		likely = slices.DeleteFunc(likely, func(r pathprobe.Candidate) bool { return r.Recipe != w.foundPath.recipe })
		before = slices.DeleteFunc(w.foundPath.tried, func(t camera.TriedPath) bool { return t.Recipe == w.foundPath.recipe })
	}
	if s := w.d.Status.SignedIn; s != nil {
		c.Leave = w.Leave(s.SignIn, signin.Streams)
	}
	found, tried, err := c.Find(ctx, *w.d.Status.Reached.StreamServer, in, likely)
	body := evidence.Located{Addr: w.d.Status.Device.Addr, Tried: append(before, tried...)}
	facts := diagnose.Facts{Host: w.d.Addr, Port: c.At.DialPort(), Asking: "the stream service", User: in.User}
	if body.Diagnosis, err = Explain(ctx, err, facts); err != nil {
		return err
	}
	if body.Diagnosis == nil && len(found) == 0 {
		body.Diagnosis = &diagnose.Diagnosis{Cause: trouble.NoPath,
			Summary: fmt.Sprintf("None of the %d likely paths is there. The device has no device service to ask.", len(tried)),
			Fix:     "Copy a URL that plays elsewhere, or find its shape in the maker's papers, and put a recipe for it into a path book.",
			Seen:    statuses(tried)}
	}
	for i, r := range found {
		if body.Diagnosis != nil || i == len(camera.Roles) {
			break
		}
		body.Recipe, body.Shape = r.Recipe, r.Shape
		body.Streams = append(body.Streams, FoundStream(r, c.At))
	}
	return w.Keep(ctx, Finding{Body: body})
}

// FoundStream returns the stream that a path which was found by trying leads to. Its path is its token.
func FoundStream(r pathprobe.Candidate, at streamurl.URL) camera.Stream {
	return camera.Stream{Channel: r.Values.Channel, Role: camera.Roles[r.Values.Stream-1], Token: r.Path, Name: r.Recipe,
		URL: at.String() + r.Path, Service: "recipe"}
}

// statuses counts the answers: "404 ×12, 401 ×1".
func statuses(tried []camera.TriedPath) string {
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
