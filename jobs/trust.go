package jobs

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"strconv"
	"sync"
	"time"

	"github.com/google/uuid"

	"unlatch/core/address"
	"unlatch/core/diagnose"
	"unlatch/core/discovery"
	"unlatch/core/evidence"
	"unlatch/core/identity"
	"unlatch/core/onvif"
	"unlatch/core/signin"
	"unlatch/store"
)

// leave is the one way by which a sign-in of the keyring goes out to a device: in a scheme that is not weaker than before, readable only
// where a person has agreed and has begun the work, and counted by the guard that keeps the device from locking. reading turns an error
// of the device into what it means for the count; it may be nil.
func (o *deviceWork) leave(d *store.Device, key uuid.UUID, purpose store.Purpose, reading func(error) error) signin.Leave {
	if key == uuid.Nil {
		return nil
	}
	return func(ctx context.Context, s signin.Sending) (func(error), error) {
		if err := d.Status.Policy(string(purpose), o.attended).Check(s); err != nil {
			return nil, err
		}
		try, err := o.begin(ctx, d, key, purpose)
		if err != nil {
			return nil, err
		}
		return func(err error) {
			if reading != nil {
				err = reading(err)
			}
			// The count must be right even when the work is cut short here.
			o.end(context.WithoutCancel(ctx), d, try, purpose, s.Scheme, err)
		}, nil
	}
}

// begin asks the guard for one try and waits where only the space between two tries is missing. A *signin.HeldBackError is its no.
func (o *deviceWork) begin(ctx context.Context, d *store.Device, key uuid.UUID, purpose store.Purpose) (uuid.UUID, error) {
	for {
		try, err := o.env.store.BeginTry(ctx, d.ID, key, purpose, d.Status.Device.Model())
		held := new(signin.HeldBackError)
		switch {
		case errors.As(err, &held) && held.Spacing:
			select {
			case <-ctx.Done():
				return try, ctx.Err()
			case <-time.After(time.Until(held.Until) + 5*time.Millisecond):
			}
		case err != nil && !errors.As(err, &held):
			return try, &ownError{err}
		default:
			return try, err
		}
	}
}

// end keeps how a try ended, and the scheme in which the device took the sign-in where that is stronger than before.
func (o *deviceWork) end(ctx context.Context, d *store.Device, try uuid.UUID, purpose store.Purpose, scheme string, err error) {
	result, locked := store.NoAnswer, new(signin.LockedError)
	switch {
	case errors.As(err, &locked):
		result = store.Locked
	case err == nil:
		result = store.Opened
	case refused(err):
		result = store.Refused
	}
	kerr := o.env.store.Keep(ctx, "a try", func(ctx context.Context) error { return o.env.store.EndTry(ctx, try, result, locked.Wait) })
	if kerr == nil && result == store.Opened && signin.Strength(scheme) > signin.Strength(d.Status.Schemes[string(purpose)]) {
		kerr = o.env.store.Keep(ctx, "a scheme", func(ctx context.Context) error {
			return o.env.store.Record(ctx, d, &o.run, store.Finding{Subject: string(purpose), Body: evidence.Scheme{Scheme: scheme}})
		})
		d.Status.Schemes[string(purpose)] = scheme
	}
	if kerr != nil { // the try stays pending, which counts as refused until somebody looks after its worker
		o.env.log.Warn("how a try ended could not be kept", "err", kerr)
	}
}

// knownAgain says where a device was before, when it has moved, and by what it is known again at its new address.
func (o *deviceWork) knownAgain() (before *netip.Addr, known string) {
	st := &o.d.Status
	here := st.Device.Addr
	if st.Before.IsValid() && st.Before != here {
		before = &st.Before
	} else if r := st.Reached; r != nil && r.Addr.IsValid() && r.Addr != here {
		before = &r.Addr
	}
	if before == nil || o.d.Via != nil {
		return nil, ""
	}
	var was, is identity.Device
	for _, s := range st.Heard {
		d := &was
		if s.Addr == here {
			d = &is
		}
		if s.Certificate != "" {
			d.Certificate = s.Certificate
		}
		if s.MAC != "" && s.Method == discovery.Neighbours { // an announcement tells whatever it likes
			d.MAC = s.MAC
		}
	}
	if in := st.SignedIn; in != nil && in.MAC != "" {
		was.MAC = in.MAC
	}
	return before, identity.KnownAgain(was, is)
}

// A mover decides of sightings that would move a device to another address. An announcement is a hint: while the device still answers
// where it was, the claim is recorded as one and the device stays.
type mover struct {
	env   *env
	site  store.Site
	guard *address.Guard
	mu    sync.Mutex
	still map[uuid.UUID]answered
}

// answered is whether a device answered at its old address, and when that was asked.
type answered struct {
	yes bool
	at  time.Time
}

// askAgain is how long the answer to whether a device is still at its address holds: one that moves is asked soon, and a wire full of
// claims asks it no more than that.
const askAgain = 5 * time.Second

func newMover(e *env, site store.Site) *mover {
	return &mover{env: e, site: site, guard: &address.Guard{Allowed: site.Ranges, Timeout: time.Second}, still: map[uuid.UUID]answered{}}
}

// file files a sighting, and returns the device that it belongs to; the zero UUID where it was a claim, or one of a storm.
func (m *mover) file(ctx context.Context, run *uuid.UUID, x discovery.Sighting) (device uuid.UUID, err error) {
	err = m.env.store.Keep(ctx, "a sighting", func(ctx context.Context) error {
		device, err = m.fileOnce(ctx, run, x)
		return err
	})
	if storm := new(store.StormError); errors.As(err, &storm) {
		return uuid.Nil, nil
	}
	return device, err
}

func (m *mover) fileOnce(ctx context.Context, run *uuid.UUID, x discovery.Sighting) (uuid.UUID, error) {
	id, moves, err := m.env.store.Moves(ctx, m.site.ID, x)
	if err != nil {
		return uuid.Nil, err
	}
	if moves {
		d, err := m.env.store.Device(ctx, id)
		if err != nil {
			return uuid.Nil, err
		}
		if m.answers(ctx, d) {
			return uuid.Nil, m.claim(ctx, run, d, x)
		}
	}
	return m.env.store.Sight(ctx, m.site.ID, run, x)
}

// claim records that something elsewhere says it is a device, once for each address.
func (m *mover) claim(ctx context.Context, run *uuid.UUID, d *store.Device, x discovery.Sighting) error {
	for _, c := range d.Status.Claims {
		if c.Addr == x.Addr {
			return nil
		}
	}
	if len(d.Status.Claims) >= store.MostAtAddress {
		return nil
	}
	body := evidence.Claimed{Addr: x.Addr, Still: d.Status.Device.Addr, Method: string(x.Method)}
	return m.env.store.Record(ctx, d, run, store.Finding{Subject: x.Addr.String(), Body: body})
}

// answers reports whether a device is still at the address at which it was last heard: one of its ports takes a connection, and its device
// service, where it has one, does not name another device. Nothing secret is sent.
func (m *mover) answers(ctx context.Context, d *store.Device) bool {
	m.mu.Lock()
	last, ok := m.still[d.ID]
	m.mu.Unlock()
	if ok && time.Since(last.at) < askAgain {
		return last.yes
	}
	yes := m.ask(ctx, d)
	m.mu.Lock()
	defer m.mu.Unlock()
	if len(m.still) > 4096 {
		clear(m.still)
	}
	m.still[d.ID] = answered{yes, time.Now()}
	return yes
}

func (m *mover) ask(ctx context.Context, d *store.Device) bool {
	dev := d.Status.Device
	if x := dev.XAddr; x != "" {
		c := onvif.New(x, onvif.Options{Dial: m.guard, Timeout: 2 * time.Second})
		defer c.Close()
		if is, err := c.Endpoint(ctx); err == nil && is != "" && d.Endpoint.Valid {
			return is == d.Endpoint.String
		}
	}
	for _, p := range dev.Ports {
		conn, err := m.guard.DialContext(ctx, "tcp", net.JoinHostPort(dev.Addr.String(), strconv.Itoa(int(p.Number))))
		if err == nil {
			conn.Close()
			return true
		}
	}
	return false
}

// strangerUnless words what came of signing in to a device that has moved and is not known again.
func (o *deviceWork) strangerUnless(d *diagnose.Diagnosis) *diagnose.Diagnosis {
	if d == nil || !o.d.Status.Before.IsValid() {
		return d
	}
	switch d.Cause {
	case diagnose.WrongSignIn, diagnose.NoSignIn:
		out := diagnose.NotKnownAgain(o.d.Status.Before, o.d.Status.Device.Addr, *d)
		return &out
	case diagnose.Readable:
		d.Summary += fmt.Sprintf(" It was at %s before, and nothing says yet that it is the same device.", o.d.Status.Before)
	}
	return d
}
