package bridge

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"reflect"
	"time"
)

// A Result is one thing that was checked of a bridge.
type Result struct {
	What    string `json:"what"`
	Skipped bool   `json:"skipped,omitempty"`
	Problem string `json:"problem,omitempty" doc:"why it fails, or why it was skipped; empty where it passes"`
}

// OK reports whether it passes.
func (r Result) OK() bool { return !r.Skipped && r.Problem == "" }

// A Checker tests a bridge against the contract. It puts entries of its own into free slots and takes them away again.
type Checker struct {
	Client    *Client
	Stranger  *Client // the same bridge without a sign-in; nil where it wants none
	StreamURL string  // that is put; "" for one at an address for documentation
	ReadOnly  bool    // ask, and change nothing
}

// checkKey is the key of the entries that a check makes.
const checkKey = "unlatch:check"

// Check runs all checks; what was found is returned in the order in which it was asked. Only the first failure of a kind that makes the
// rest meaningless ends it early.
func (c *Checker) Check(ctx context.Context) []Result {
	r := &bridgeCheck{Checker: c, ctx: ctx}
	if c.Stranger != nil {
		r.try("it wants a sign-in before it tells anything", func() error {
			var refused *RefusedError
			_, err := c.Stranger.Target(ctx)
			if err == nil {
				return errors.New("it answered without one")
			}
			if !errors.As(err, &refused) {
				return err
			}
			return nil
		})
	}
	if !r.try("it tells what stands behind it", func() error { _, err := c.Client.Target(ctx); return err }) {
		return r.out
	}
	if !r.try("it lists its slots, each once and in a known state", func() (err error) { r.slots, err = c.Client.Slots(ctx); return err }) {
		return r.out
	}
	r.try("it lists the same slots when asked again", r.stable)
	r.try("it turns down what is no slot, with a problem", r.unknown)
	if t, _ := c.Client.Target(ctx); t.Can(CanTemplates) {
		r.try("it lists its templates", func() error { _, err := c.Client.Templates(ctx); return err })
	}
	if c.ReadOnly {
		r.skip("it takes entries", "not asked to change anything")
		return r.out
	}
	r.writes()
	return r.out
}

type bridgeCheck struct {
	*Checker
	ctx   context.Context
	slots *Slots
	out   []Result
}

func (r *bridgeCheck) try(what string, do func() error) bool {
	res := Result{What: what}
	if err := do(); err != nil {
		res.Problem = err.Error()
	}
	r.out = append(r.out, res)
	return res.Problem == ""
}

func (r *bridgeCheck) skip(what, why string) {
	r.out = append(r.out, Result{What: what, Skipped: true, Problem: why})
}

func (r *bridgeCheck) stable() error {
	again, err := r.Client.Slots(r.ctx)
	if err != nil {
		return err
	}
	if a, b := identities(r.slots), identities(again); !reflect.DeepEqual(a, b) {
		return fmt.Errorf("first %v, then %v", a, b)
	}
	return nil
}

func identities(s *Slots) (out []string) {
	for _, x := range s.Slots {
		out = append(out, x.ID+" "+x.State)
	}
	return out
}

// problem passes where err is a problem document with one of these statuses.
func problem(err error, allowed ...int) error {
	var p *Problem
	if err == nil {
		return errors.New("it said yes")
	}
	if !errors.As(err, &p) {
		return err
	}
	for _, s := range allowed {
		if p.Status == s {
			return nil
		}
	}
	return fmt.Errorf("it answers %d %s; one of %v is right", p.Status, p.Title, allowed)
}

func (r *bridgeCheck) unknown() error {
	_, err := r.Client.Slot(r.ctx, "unlatch-no-such-slot")
	return problem(err, http.StatusNotFound)
}

// entry returns what a check puts: all fields that any target may need are filled.
func (r *bridgeCheck) entry(n int) Entry {
	at := r.StreamURL
	if at == "" {
		at = "rtsp://192.0.2.1:554/check"
	}
	t, _ := r.Client.Target(r.ctx)
	e := Entry{Key: fmt.Sprintf("%s:%d", checkKey, n), Name: []string{"Check apple", "Check river"}[n], Address: "192.0.2.1", Model: "check",
		User: "check", Password: "Check-Pass-1", Channel: 1,
		Streams: []Stream{{Role: "sub", URL: at, Transport: "tcp", Width: 640, Height: 360}}}
	if len(t.Intake.Streams) > 0 {
		e.Streams[0].Role = t.Intake.Streams[0]
	}
	if t.Intake.Both {
		e.Streams = []Stream{{Role: "main", URL: at, Transport: "tcp"}, {Role: "sub", URL: at, Transport: "tcp"}}
	}
	for _, d := range t.Drivers {
		if d.Plain {
			e.Driver = d.ID
		}
	}
	return e
}

// writes are the checks that change something, on the first two free slots.
func (r *bridgeCheck) writes() {
	var free []string
	for _, x := range r.slots.Slots {
		if x.State == Free {
			free = append(free, x.ID)
		}
	}
	if len(free) == 0 {
		r.skip("it takes entries", "no slot is free")
		return
	}
	first, e := free[0], r.entry(0)
	ctx, cancel := context.WithTimeout(context.WithoutCancel(r.ctx), 30*time.Second)
	defer cancel()
	t, _ := r.Client.Target(r.ctx)
	if t.Can(CanTemplates) {
		e.Template = 0 // the slot is asked without one: it may turn that down, and must say why
	}
	_, err := r.Client.Put(ctx, first, e)
	var p *Problem
	if errors.As(err, &p) && p.Type == TypeMisfit && p.Field != "" {
		r.try("it says which field does not fit where it turns an entry down", func() error { return nil })
		r.skip("it takes entries", "it wants other streams than the check has: "+p.Error()+"; give it one with --stream")
		return
	}
	if !r.try("it takes an entry into a free slot", func() error { return err }) {
		r.Client.Remove(ctx, first)
		return
	}
	defer r.Client.Remove(ctx, first)
	r.try("putting it again changes nothing", func() error {
		if _, err := r.Client.Put(ctx, first, e); err != nil {
			return err
		}
		s, err := r.Client.Slots(ctx)
		if err == nil && (s.Find(e.Key) == nil || s.Find(e.Key).ID != first) {
			err = errors.New("the entry is not where it was put")
		}
		return err
	})
	r.try("it tells how the slot's picture stands", func() error {
		s, err := r.Client.Slot(ctx, first)
		if err == nil && (s.Status == nil || s.Status.State == "") {
			err = errors.New("the slot has no status")
		}
		return err
	})
	r.try("another entry does not push out the one that is there", func() error {
		other := r.entry(1)
		_, err := r.Client.Put(ctx, first, other)
		return problem(err, http.StatusConflict)
	})
	r.try("it turns down what is no entry, with a problem", func() error {
		_, err := r.Client.slot(ctx, http.MethodPut, first, "", map[string]any{"key": 7, "streams": "none"})
		return problem(err, http.StatusBadRequest, http.StatusUnprocessableEntity)
	})
	r.abilities(ctx, t, first, free)
	r.try("it gives a slot back, also twice", func() error {
		where := first
		if s, err := r.Client.Slots(ctx); err == nil && s.Find(e.Key) != nil {
			where = s.Find(e.Key).ID
		}
		for range 2 {
			if err := r.Client.Remove(ctx, where); err != nil {
				return err
			}
		}
		s, err := r.Client.Slots(ctx)
		if err == nil && s.Find(e.Key) != nil {
			err = errors.New("the entry is still there")
		}
		return err
	})
}

// abilities tests each ability that the bridge claims.
func (r *bridgeCheck) abilities(ctx context.Context, t *Target, first string, free []string) {
	if t.Can(CanMove) && len(free) > 1 {
		r.try("it moves an entry to a free slot and back", func() error {
			if err := r.Client.Move(ctx, first, free[1]); err != nil {
				return err
			}
			s, err := r.Client.Slots(ctx)
			if err == nil && (s.Slot(free[1]) == nil || s.Slot(free[1]).Entry == nil) {
				err = errors.New("it said yes, and the entry has not moved")
			}
			return errors.Join(err, r.Client.Move(ctx, free[1], first))
		})
	}
	if t.Can(CanOrder) {
		r.try("it keeps the order that it has", func() error {
			s, err := r.Client.Slots(ctx)
			if err != nil {
				return err
			}
			var used []string
			for _, x := range s.Slots {
				if x.Entry != nil {
					used = append(used, x.ID)
				}
			}
			return r.Client.Order(ctx, used)
		})
	}
	if t.Can(CanSchedule) {
		r.try("it takes a schedule", func() error { return r.Client.SetSchedule(ctx, first, Schedule{Mode: "always"}) })
	}
	if t.Can(CanPicture) {
		r.try("it shows the picture of a slot, or says why not", func() error {
			_, err := r.Client.Picture(ctx, first)
			if err == nil {
				return nil
			}
			return problem(err, http.StatusNotFound, http.StatusConflict, http.StatusServiceUnavailable)
		})
	}
	if t.Can(CanShow) {
		r.try("it turns down a screen that it does not have", func() error {
			_, err := r.Client.Show(ctx, first, "unlatch-no-such-screen")
			return problem(err, http.StatusNotFound, http.StatusUnprocessableEntity)
		})
	}
	if t.Can(CanPush) {
		r.try("it takes a push and its end", func() error {
			_, err := r.Client.Push(ctx, first, Push{Ingest: "rtmp://192.0.2.1/live", Key: "check-key", Stream: "main"})
			return errors.Join(err, r.Client.EndPush(ctx, first))
		})
	}
	if t.Can(CanFree) {
		r.try("it turns down freeing a slot that is not blocked", func() error {
			_, err := r.Client.Free(ctx, first)
			return problem(err, http.StatusConflict, http.StatusUnprocessableEntity)
		})
	}
}
