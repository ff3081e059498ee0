// Package pathprobe finds the stream paths of a camera that tells none: it asks for one candidate path after the other, gently, and tells
// from the answers which are there. One DESCRIBE a path, over one connection, and nothing is played.
package pathprobe

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"unlatch/core/ground/address"
	"unlatch/core/ground/exchange"
	"unlatch/core/ground/signin"
	"unlatch/core/ground/streamurl"
	"unlatch/core/stream/camera"
	"unlatch/core/stream/recipe"
	"unlatch/core/wire/rtsp"
)

// MaxCandidates is how many paths are tried at most.
const MaxCandidates = 400

// A Candidate is one path to try, with where it comes from.
type Candidate struct {
	Path   string        `json:"path"`
	Values recipe.Values `json:"values"`
	Recipe string        `json:"recipe" doc:"name of the recipe, or what else it comes from"`
	Shape  string        `json:"shape,omitempty"`
	Port   int           `json:"port,omitempty" doc:"that the recipe names; 0 for none"`
}

// A Finder asks one stream service.
type Finder struct {
	Dial address.Dialer
	At   streamurl.URL // scheme, host and port; path and sign-in are set for each request
	Log  *exchange.Log
	// Leave is asked before the sign-in goes out; nil lets no readable one out.
	Leave signin.Leave
	// Doing is told of each path before it is asked for; may be nil.
	Doing   func(path string)
	Timeout time.Duration // for one answer; 0 means 5 s

	conn   *rtsp.Conn
	signIn signin.SignIn
}

// nonsense returns a path that no device has.
func nonsense() string { return "/no-such-path-" + uuid.NewString()[:8] }

// Close ends the connection.
func (c *Finder) Close() {
	if c.conn != nil {
		c.conn.Close()
		c.conn = nil
	}
}

// describe asks for a path and returns the status. A server that hangs up after an error is connected to again.
func (c *Finder) describe(ctx context.Context, in signin.SignIn, path string) (status int, realm string, err error) {
	for again := range 2 {
		fresh := false
		if c.conn == nil || in.User != c.signIn.User || in.Secret.Reveal() != c.signIn.Secret.Reveal() {
			c.Close()
			c.signIn, fresh = in, true
			if c.conn, err = rtsp.Dial(ctx, c.At, rtsp.Options{Dial: c.Dial, SignIn: in, Leave: c.Leave, Log: c.Log,
				Timeout: c.Timeout}); err != nil {
				c.conn = nil
				return 0, "", err
			}
		}
		u := c.At
		u.SignIn = signin.SignIn{}
		u.Path, u.Query, _ = strings.Cut(path, "?")
		res, err := c.conn.Do(ctx, "DESCRIBE", u.String(), rtsp.Field{Name: "Accept", Value: "application/sdp"})
		var auth *rtsp.AuthError
		var refused *rtsp.StatusError
		var locked *signin.LockedError
		switch {
		case err == nil:
			return res.Status, "", nil
		case errors.As(err, &auth):
			if auth.Tried {
				c.Close() // what was refused is not sent again over this connection
			}
			return auth.Status, auth.Realm, nil
		case errors.As(err, &refused):
			return refused.Status, "", nil
		case again == 1 || ctx.Err() != nil || errors.As(err, &locked) || fresh && !in.Anonymous(): // a sign-in goes out once
			return 0, "", err
		}
		c.Close()
	}
	return 0, "", err
}

// Ask finds out how the server judges, with a path that cannot be.
func (c *Finder) Ask(ctx context.Context) (camera.StreamServer, error) {
	status, realm, err := c.describe(ctx, signin.SignIn{}, nonsense())
	if err != nil {
		return camera.StreamServer{}, err
	}
	s := camera.StreamServer{Realm: realm, Precedence: camera.PathFirst}
	if c.conn != nil {
		s.Server = c.conn.Server
	}
	switch {
	case status == 401:
		s.Precedence = camera.SignInFirst
	case status < 300:
		s.Precedence = camera.AnyPath
	}
	return s, nil
}

// SignIn proves a sign-in on a server that judges the sign-in first, without knowing any path: what is no longer a 401 has been let in. On
// others path must be one that asked for a sign-in. What is refused is an *rtsp.AuthError.
func (c *Finder) SignIn(ctx context.Context, in signin.SignIn, path string) error {
	if path == "" {
		path = nonsense()
	}
	status, realm, err := c.describe(ctx, in, path)
	if err == nil && status == 401 {
		return &rtsp.AuthError{Tried: !in.Anonymous(), Realm: realm, Status: status}
	}
	return err
}

// Scheme returns the scheme in which the service has taken the sign-in; "none" where it asked for none.
func (c *Finder) Scheme() string {
	if c.conn == nil {
		return "none"
	}
	return c.conn.Auth()
}

// Find tries candidates in order. It stops when every stream that the first fitting recipe has was asked for; the paths that are there
// are returned, and every one that was tried. A path that wants a sign-in is there as well: on a server that judges paths first a 401
// says so.
func (c *Finder) Find(ctx context.Context, s camera.StreamServer, in signin.SignIn,
	candidates []Candidate) (found []Candidate, tried []camera.TriedPath, err error) {
	for _, r := range candidates[:min(len(candidates), MaxCandidates)] {
		if len(found) > 0 && found[0].Recipe != r.Recipe {
			break // another shape: this one is found
		}
		if c.Doing != nil {
			c.Doing(r.Path)
		}
		status, _, err := c.describe(ctx, in, r.Path)
		if err != nil {
			return found, tried, fmt.Errorf("after %d paths: %w", len(tried), err)
		}
		tried = append(tried, camera.TriedPath{Path: r.Path, Recipe: r.Recipe, Status: status})
		if status == 401 && s.Precedence == camera.SignInFirst {
			return found, tried, &rtsp.AuthError{Tried: !in.Anonymous(),
				Status: status} // it was let in before: the sign-in is good for other paths, or for none
		}
		if status < 300 || status == 401 {
			found = append(found, r)
			if s.Precedence == camera.AnyPath {
				break // every other path would be there too
			}
		}
	}
	return found, tried, nil
}

// Candidates orders the paths of books for one purpose by how well each recipe fits a device, each recipe's streams together. first are put
// before all others: shapes that work on a device alike.
func Candidates(purpose recipe.Purpose, d recipe.Device, channel int, first []recipe.Recipe, books ...*recipe.Book) []Candidate {
	type ranked struct {
		r    recipe.Recipe
		rank int
	}
	var all []ranked
	for _, r := range first {
		all = append(all, ranked{r, 1000})
	}
	for _, b := range books {
		for _, r := range b.Recipes {
			if rank := r.Rank(d); rank > 0 && r.Purpose == purpose {
				all = append(all, ranked{r, rank})
			}
		}
	}
	slices.SortStableFunc(all, func(a, b ranked) int { return b.rank - a.rank })
	var out []Candidate
	seen := map[string]bool{}
	for _, x := range all {
		v := recipe.Values{Channel: channel}
		if !x.r.Path.HasChannel() {
			v.Channel = 1
		}
		for v.Stream = 1; v.Stream <= x.r.Path.Streams(); v.Stream++ {
			path, err := x.r.Path.Expand(v)
			if err != nil || seen[path] {
				continue
			}
			seen[path] = true
			out = append(out, Candidate{Path: path, Values: v, Recipe: x.r.Name, Shape: x.r.Shape, Port: x.r.Port})
		}
	}
	return out
}
