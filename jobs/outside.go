package jobs

import (
	"context"
	"fmt"
	"net/netip"
	"os"
	"time"

	"github.com/google/uuid"

	"unlatch/core/decide/diagnose"
	"unlatch/core/decide/evidence"
	"unlatch/core/decide/outside"
	"unlatch/core/ground/address"
	"unlatch/core/ground/trouble"
	"unlatch/core/work/bringup"
)

// outsideQueueOf is the queue of a site for workers elsewhere: those that reach its outside addresses and not its inside.
func outsideQueueOf(site uuid.UUID) string { return queueOf(site) + "-outside" }

// insideFor is how long a worker elsewhere waits for an inside address to answer it, which none should.
const insideFor = 2 * time.Second

// proveOutside carries out command.Outside: each stream that is led outside is played by the outside address.
func (e *env) proveOutside(ctx context.Context, run, site uuid.UUID) error {
	form, err := e.store.Sites.Outside(ctx, site)
	if err != nil {
		return e.finish(ctx, run, err)
	}
	guard, err := e.outsideGuard(ctx, form)
	if err != nil {
		return e.finish(ctx, run, err)
	}
	for _, m := range form.Maps {
		if err := e.proveMap(ctx, run, form, m, guard); err != nil {
			return e.finish(ctx, run, err)
		}
	}
	return nil
}

// outsideGuard lets out to the outside addresses of a site and to nothing else: this machine is elsewhere.
func (e *env) outsideGuard(ctx context.Context, form outside.Form) (*address.Guard, error) {
	resolver := e.names()
	var ranges []string
	for _, a := range form.Addresses {
		if addr, err := netip.ParseAddr(a); err == nil {
			ranges = append(ranges, addr.String())
			continue
		}
		found, err := address.Lookup(ctx, resolver, a)
		if err != nil {
			return nil, fmt.Errorf("the outside name %s leads nowhere from here: %w", a, err)
		}
		for _, addr := range found {
			ranges = append(ranges, addr.String())
		}
	}
	allowed, err := address.Parse(ranges...)
	return &address.Guard{Allowed: allowed}, err
}

// proveMap plays the streams of one camera that a port leads to.
func (e *env) proveMap(ctx context.Context, run uuid.UUID, form outside.Form, m outside.Map, guard *address.Guard) error {
	d, err := e.store.Devices.Get(ctx, m.Device)
	if err != nil {
		return err
	}
	job, err := e.deviceJob(ctx, run, d)
	if err != nil {
		return err
	}
	defer job.Close()
	inside := e.reachesInside(ctx, m)
	job.Guard = guard
	host, _ := os.Hostname()
	for _, st := range d.Status.Streams {
		url, led := form.URL(st.URL)
		if at, _ := outside.PlaceOf(st.URL); !led || at != m.Inside {
			continue
		}
		e.store.Runs.Progress(ctx, run, fmt.Sprintf("%s: playing %s", d.Latch().Title, url), -1)
		body := evidence.Outside{PlainURL: url, Inside: m.Inside, Worker: host}
		f := bringup.Finding{Subject: st.Role}
		if inside {
			body.Diagnosis = &diagnose.Diagnosis{Cause: trouble.NotFromOutside,
				Summary: fmt.Sprintf("The machine that should play it from outside (%s) reaches %s directly: what it sees proves nothing.", host,
					m.Inside),
				Fix: "Run the worker on a machine that has no way into the site: unlatch worker --outside."}
		} else if body.Proof, err = job.ProveAt(ctx, url); err != nil {
			return err
		} else {
			f.Exchange = body.Exchange
		}
		body.Proof.Still, f.Body = nil, body
		if err := job.Keep(ctx, f); err != nil {
			return err
		}
	}
	return e.store.Keep(ctx, "the progress of a run", func(ctx context.Context) error { return e.store.Runs.StepDone(ctx, run) })
}

// reachesInside reports whether this machine reaches an inside address by itself: then it is not elsewhere.
func (e *env) reachesInside(ctx context.Context, m outside.Map) bool {
	at, err := netip.ParseAddrPort(m.Inside)
	if err != nil {
		return false
	}
	guard := &address.Guard{Allowed: address.MustParse(at.Addr().String())}
	ctx, cancel := context.WithTimeout(ctx, insideFor)
	defer cancel()
	conn, err := guard.DialContext(ctx, "tcp", m.Inside)
	if err == nil {
		conn.Close()
		return true
	}
	return false
}
