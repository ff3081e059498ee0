package bringup

import (
	"context"

	"github.com/google/uuid"

	"unlatch/core/decide/diagnose"
	"unlatch/core/decide/evidence"
	"unlatch/core/decide/latch"
	"unlatch/core/ground/signin"
	"unlatch/core/ground/trouble"
	"unlatch/core/stream/recipe"
	"unlatch/core/wire/pathprobe"
)

// A StreamService is a stream service that was signed in to by a pasted URL: what is recorded of each of its channels.
type StreamService struct {
	Reached  evidence.Reached
	SignedIn evidence.SignedIn
	signIn   signin.SignIn
}

// OpenStreamService asks a stream service how it judges requests and signs in with an entry of the keyring, Nil for none. It reports shut,
// and has recorded why, where that does not open it.
func (w *Work) OpenStreamService(ctx context.Context, c *pathprobe.Finder, key uuid.UUID,
	path string) (s StreamService, shut bool, err error) {
	s.SignedIn = evidence.SignedIn{StreamOnly: true, Scheme: "none"}
	if key != uuid.Nil {
		if s.signIn, err = w.Decrypt(ctx, key); err != nil {
			return s, false, err
		}
		entry, err := w.Keyring.Key(ctx, key)
		if err != nil {
			return s, false, err
		}
		s.SignedIn.SignIn, s.SignedIn.User, s.SignedIn.Label, s.SignedIn.Scheme = key, s.signIn.User, entry.Label, "by the stream service"
	}
	server, err := c.Ask(ctx)
	if err == nil && !s.signIn.Anonymous() {
		c.Leave = w.Leave(key, signin.Streams)
		err = c.SignIn(ctx, s.signIn, path)
	}
	facts := diagnose.Facts{Host: w.d.Addr, Port: c.At.DialPort(), Asking: "the stream service", User: s.signIn.User}
	diagnosis, err := Explain(ctx, err, facts)
	if err != nil {
		return s, false, err
	}
	s.Reached = evidence.Reached{Addr: w.d.Status.Device.Addr, Stream: c.At.String(), StreamServer: &server}
	if diagnosis == nil {
		return s, false, nil
	}
	switch diagnosis.Cause {
	case trouble.WrongSignIn, trouble.NoSignIn, trouble.Readable:
		s.SignedIn.Diagnosis = diagnosis
		return s, true, w.Keep(ctx, Finding{Body: s.SignedIn})
	}
	s.Reached.Stream, s.Reached.StreamServer, s.Reached.Diagnosis = "", nil, diagnosis
	return s, true, w.Keep(ctx, Finding{Body: s.Reached})
}

// ChannelPaths tries the paths of one channel by a recipe. A body without streams means that there is no such channel.
func (w *Work) ChannelPaths(ctx context.Context, c *pathprobe.Finder, s StreamService, r recipe.Recipe,
	channel int) (evidence.Located, error) {
	likely := pathprobe.Candidates(recipe.Stream, recipe.Device{}, channel, []recipe.Recipe{r})
	there, tried, err := c.Find(ctx, *s.Reached.StreamServer, s.signIn, likely)
	body := evidence.Located{Addr: w.d.Status.Device.Addr, Recipe: r.Name, Shape: r.Shape, Tried: tried}
	for _, found := range there {
		body.Streams = append(body.Streams, FoundStream(found, c.At))
	}
	return body, err
}

// With returns the same work on another device, which is reached in the same way.
func (w *Work) With(d *latch.Device) *Work {
	out := Start(d, w.Config)
	out.secrets = w.secrets
	return out
}
