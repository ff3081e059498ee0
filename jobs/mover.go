package jobs

import (
	"context"
	"errors"
	"net"
	"strconv"
	"sync"
	"time"

	"github.com/google/uuid"

	"unlatch/core/ground/address"
	"unlatch/core/stream/sighting"
	"unlatch/core/wire/discovery"
	"unlatch/core/wire/onvif"
	"unlatch/store"
)

// A mover decides of sightings that would move a device to another address. An announcement is a hint: while the device still answers
// where it was, the claim is recorded as one and the device stays.
type mover struct {
	env   *env
	site  store.Site
	guard *address.Guard
	mu    sync.Mutex
	still map[uuid.UUID]answeredMove
}

// answeredMove is whether a device answeredMove at its old address, and when that was asked.
type answeredMove struct {
	yes bool
	at  time.Time
}

// askAgain is how long the answer to whether a device is still at its address holds: one that moves is asked soon, and a wire full of
// claims asks it no more than that.
const askAgain = 5 * time.Second

func newMover(e *env, site store.Site) *mover {
	return &mover{env: e, site: site, guard: &address.Guard{Allowed: site.Ranges, Timeout: time.Second}, still: map[uuid.UUID]answeredMove{}}
}

// file files a sighting, and returns the device that it belongs to; the zero UUID where it was a claim, or one of a storm.
func (m *mover) file(ctx context.Context, run *uuid.UUID, x sighting.Sighting) (device uuid.UUID, err error) {
	err = m.env.store.Keep(ctx, "a sighting", func(ctx context.Context) error {
		device, err = m.fileOnce(ctx, run, x)
		return err
	})
	if storm := new(discovery.StormError); errors.As(err, &storm) {
		return uuid.Nil, nil
	}
	return device, err
}

func (m *mover) fileOnce(ctx context.Context, run *uuid.UUID, x sighting.Sighting) (uuid.UUID, error) {
	if own, err := m.env.store.Relays.IsFace(ctx, x.Endpoint); own || err != nil {
		return uuid.Nil, err // it is this program
	}
	id, moves, err := m.env.store.Devices.Moves(ctx, m.site.ID, x)
	if err != nil {
		return uuid.Nil, err
	}
	if moves {
		d, err := m.env.store.Devices.Get(ctx, id)
		if err != nil {
			return uuid.Nil, err
		}
		if m.answers(ctx, d) {
			return uuid.Nil, m.claim(ctx, run, d, x)
		}
	}
	return m.env.store.Devices.Sight(ctx, m.site.ID, run, x)
}

// claim records that something elsewhere says it is a device, once for each address.
func (m *mover) claim(ctx context.Context, run *uuid.UUID, d *store.Device, x sighting.Sighting) error {
	body, told := d.Status.Claim(x)
	if !told {
		return nil
	}
	return m.env.store.Devices.Record(ctx, d, run, store.Finding{Subject: x.Addr.String(), Body: body})
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
	m.still[d.ID] = answeredMove{yes, time.Now()}
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
