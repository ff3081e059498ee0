package bringup

import (
	"context"
	"fmt"
	"maps"
	"net/http"
	"time"

	"github.com/google/uuid"

	"unlatch/core/decide/command"
	"unlatch/core/decide/evidence"
	"unlatch/core/ground/signin"
	"unlatch/core/stream/recipe"
	"unlatch/core/wire/fix"
	"unlatch/core/wire/picture"
)

// Times of a command.
const (
	readEvery   = time.Second      // how often a setting is read again that is not what was sent
	settlesFor  = 3 * time.Second  // for which that goes on: some pages answer before they have done it
	restartsFor = 90 * time.Second // for which a device may be away that restarts
	goesDownIn  = 15 * time.Second // after which a device that still answers does not restart any more
)

// Send tells the device something on its maker's own page, or takes that back. What was before is recorded before anything is sent, and
// nothing counts that is not read back. Then the streams are played again that the change may be about.
func (w *Work) Send(ctx context.Context, x command.Send) error {
	s := &sendChange{Work: w, x: x, body: evidence.Commanded{Command: x.Command, Partners: x.Partners, Wanted: x.Values, Undone: x.Undo}}
	if x.Undo && s.stands() == nil && w.d.Status.PutBack.Commands[x.Command.Name] {
		mine, err := w.mine(ctx, evidence.KindCommanded, x.Command.Name)
		if err != nil || mine { // it was taken back before the work was killed
			return err
		}
	}
	err := s.send(ctx)
	s.body.Pending = false
	if s.body.Diagnosis, err = Explain(ctx, err, w.facts(s.at, "the device's own page", s.user)); err != nil {
		return err
	}
	if err := w.Keep(ctx, Finding{Subject: x.Command.Name, Body: s.body}); err != nil {
		return err
	}
	if d := s.body.Diagnosis; d != nil {
		return w.Report.Problem(ctx, fmt.Sprintf("%s: %s %s", w.d.Title, d.Summary, d.Fix))
	}
	return s.openAnew(ctx)
}

// A sendChange is one command under way.
type sendChange struct {
	*Work
	x    command.Send
	body evidence.Commanded
	page *picture.Fetcher
	at   string // the web side: scheme and host
	user string
	// resumed says that work on the same change was cut off: what it sent may still be at work on the device.
	resumed bool
}

// stands returns the newest record of the command where it stands on the device or was begun; nil where it does not.
func (s *sendChange) stands() *evidence.Commanded {
	return s.d.Status.CommandStanding(s.x.Command.Name)
}

func (s *sendChange) send(ctx context.Context) error {
	c := &s.body.Command
	was := s.stands()
	s.resumed = was != nil && was.Pending
	if s.x.Undo {
		if was == nil {
			return &recipe.NothingError{Command: c.Name}
		}
		// As it was given then, with what was before: the book may have changed since.
		s.body = *was
		s.body.Undone, s.body.Pending, s.body.Diagnosis, s.body.Wanted = true, true, nil, was.Before
	} else if err := c.Check(s.x.Values); err != nil {
		return err
	}
	now, err := s.open(ctx)
	for until := s.Clock.Now().Add(restartsFor); err != nil && s.resumed && c.Restarts && s.Clock.Now().Before(until); {
		// The work was killed while the device restarted.
		if refused(err) || heldBack(err) {
			break
		}
		if err := s.Clock.Sleep(ctx, readEvery); err != nil {
			return err
		}
		now, err = s.open(ctx)
	}
	if err != nil {
		return err
	}
	if !s.x.Undo {
		s.body.Before = now
		if was != nil { // what is there now is the work of the change that stands, or was begun
			s.body.Before, s.body.Switched = was.Before, was.Switched
		}
		if err := c.Check(s.body.Before); err != nil {
			return &recipe.NoWayBackError{Err: err}
		}
		if err := s.exclude(ctx); err != nil {
			return err
		}
	}
	s.body.Pending = true
	if err := s.keep(ctx, Finding{Subject: c.Name, Body: s.body}); err != nil {
		return err
	}
	if !s.x.Undo {
		if err := s.switchPartners(ctx, false); err != nil {
			return err
		}
	}
	requests := c.Set
	if s.x.Undo && len(c.Undo) > 0 {
		requests = c.Undo
	}
	if s.body.After, err = s.set(ctx, c, requests, s.body.Wanted, now); err != nil {
		return err
	}
	if s.x.Undo {
		return s.switchPartners(ctx, true)
	}
	return nil
}

// exclude finds the commands that are on now and must not be on together with this one, and notes their settings: they are switched first.
func (s *sendChange) exclude(ctx context.Context) error {
	for _, x := range s.body.Command.NotWith {
		if !recipe.Meets(s.body.Wanted, x.When) {
			continue
		}
		other := recipe.CommandNamed(s.body.Partners, x.Command)
		if other == nil {
			return &recipe.ExcludedError{Other: x.Command, Is: "not known"}
		}
		now, err := s.read(ctx, other)
		if err != nil {
			return err
		}
		if _, begun := s.body.Switched[other.Name]; begun || !recipe.Meets(now, x.Is) {
			continue
		}
		if len(x.Set) == 0 {
			return &recipe.ExcludedError{Other: other.Name, Is: other.InWords(now)}
		}
		if s.body.Switched == nil {
			s.body.Switched = map[string]map[string]string{}
		}
		s.body.Switched[other.Name] = now
	}
	return nil
}

// switchPartners sets the partners that were noted to what they have to be, or back to what they were.
func (s *sendChange) switchPartners(ctx context.Context, back bool) error {
	for i := range s.body.Partners {
		other := &s.body.Partners[i]
		before, noted := s.body.Switched[other.Name]
		if !noted {
			continue
		}
		want := maps.Clone(before)
		for _, x := range s.body.Command.NotWith {
			if x.Command == other.Name && !back {
				maps.Copy(want, x.Set)
			}
		}
		now, err := s.read(ctx, other)
		if err != nil {
			return err
		}
		if _, err := s.set(ctx, other, other.Set, want, now); err != nil {
			return err
		}
	}
	return nil
}

// set sends what sets values, where they are not set already, and reads them back.
func (s *sendChange) set(ctx context.Context, c *recipe.Command, list []recipe.Request, want,
	now map[string]string) (map[string]string, error) {
	if c.Same(now, want) {
		if s.resumed && c.Restarts { // it may have been set a moment ago, and be about to go down
			return s.readBack(ctx, c, want)
		}
		return now, nil
	}
	token := ""
	if c.Token != nil {
		answer, err := s.ask(ctx, picture.Request{URL: s.at + c.Token.Path})
		if err == nil {
			token, err = c.ReadToken(answer.Body)
		}
		if err != nil {
			return nil, err
		}
	}
	requests, err := c.Fill(list, want, token)
	if err != nil {
		return nil, err
	}
	s.Report.Doing(fmt.Sprintf("%s: setting %s to %s", s.d.Title, c.Name, c.InWords(want)))
	for _, x := range requests {
		h := http.Header{}
		for _, f := range x.Header {
			h.Add(f.Name, f.Value)
		}
		answer, err := s.ask(ctx, picture.Request{Method: x.Method, URL: s.at + x.Target, Header: h, Body: x.Body})
		if err != nil {
			return nil, err
		}
		if !x.OK.Takes(answer.Status, answer.Body) {
			return nil, &recipe.AnsweredError{Path: x.Target, Status: answer.Status}
		}
	}
	return s.readBack(ctx, c, want)
}

// readBack reads a setting until it is what was sent, for as long as a device may take for that.
func (s *sendChange) readBack(ctx context.Context, c *recipe.Command, want map[string]string) (map[string]string, error) {
	patience := settlesFor
	if c.Restarts {
		patience = restartsFor
		s.Report.Doing(fmt.Sprintf("%s: waiting until it is back from its restart", s.d.Title))
		if err := s.Clock.Sleep(ctx, readEvery); err != nil {
			return nil, err
		}
	}
	began, gone := s.Clock.Now(), false
	for until := began.Add(patience); ; {
		now, err := s.read(ctx, c)
		gone = gone || err != nil
		// A device that restarts answers for some seconds more; what is asked of it then would fail.
		staysUp := !c.Restarts || gone || s.Clock.Now().Sub(began) >= goesDownIn
		if err == nil && c.Same(now, want) && staysUp {
			return now, nil
		}
		if late := !s.Clock.Now().Before(until); late && err == nil {
			return now, &fix.NotKeptError{What: c.Name, Wanted: c.InWords(want), Got: c.InWords(now)}
		} else if late || err != nil && (!c.Restarts || refused(err) || heldBack(err)) {
			return nil, err
		}
		if err := s.Clock.Sleep(ctx, readEvery); err != nil {
			return nil, err
		}
	}
}

func (s *sendChange) read(ctx context.Context, c *recipe.Command) (map[string]string, error) {
	answer, err := s.ask(ctx, picture.Request{URL: s.at + c.Read.Path})
	if err != nil {
		return nil, err
	}
	if answer.Status < 200 || answer.Status > 299 {
		return nil, &recipe.AnsweredError{Path: c.Read.Path, Status: answer.Status}
	}
	return c.ReadValues(answer.Body)
}

func (s *sendChange) ask(ctx context.Context, r picture.Request) (*picture.Answer, error) {
	answer, err := s.page.Send(ctx, r)
	if err == nil {
		err = proveStep{s.Work}.know(ctx, s.page.Shown)
	}
	return answer, err
}

// open reads the present setting, with the sign-in that opens the device; where none is known, with what the keyring holds for its web
// side.
func (s *sendChange) open(ctx context.Context) (now map[string]string, err error) {
	var known bool
	if s.at, known = s.d.Status.OwnPage(); !known {
		return nil, &recipe.NoWebError{}
	}
	try := func(in signin.SignIn, leave signin.Leave) error {
		s.user = in.User
		s.page = &picture.Fetcher{Dial: s.Guard, SignIn: in, Leave: leave, Pin: s.pin(), Log: s.log}
		now, err = s.read(ctx, &s.body.Command)
		return err
	}
	if in := s.d.Status.SignedIn; in != nil && in.Diagnosis == nil && in.SignIn != uuid.Nil {
		key, err := s.signInOf(ctx, s.d)
		if err == nil {
			err = try(key, s.Leave(in.SignIn, signin.WebPage))
		}
		return now, err
	}
	if err := try(signin.SignIn{}, nil); err == nil || !refused(err) {
		return now, err
	}
	keys, kerr := signInStep{s.Work}.candidates(ctx, signin.WebPage)
	if kerr != nil {
		return nil, kerr
	}
	for _, k := range keys {
		in, err := s.Decrypt(ctx, k.ID)
		if err != nil {
			return nil, &OwnError{err}
		}
		if err := try(in, s.Leave(k.ID, signin.WebPage)); err == nil || !refused(err) {
			return now, err
		}
	}
	return now, err
}

// openAnew goes on with what the change may have been in the way of, and plays again what was proven before it.
func (s *sendChange) openAnew(ctx context.Context) error {
	if s.OnlyChange {
		return nil
	}
	if err := s.Read(ctx); err != nil {
		return err
	}
	if len(s.d.Status.Proofs) > 0 {
		if err := s.ProveAgain(ctx); err != nil {
			return err
		}
	}
	return s.Open(ctx)
}
