package jobs

import (
	"context"
	"net"
	"slices"
	"time"

	"unlatch/core/work/fanout"
	"unlatch/core/work/relay"
	"unlatch/store"
)

// relaysEvery is how often it is looked which relays there are, besides when one is told of.
const relaysEvery = 5 * time.Second

// ServeRelays serves the streams of the sites that this process reaches on l, until ctx ends.
func (w *Workers) ServeRelays(ctx context.Context, l net.Listener, reached []string) error {
	e := w.env
	server := &relay.Server{Log: e.log}
	defer server.Close()
	told := make(chan struct{}, 1)
	tell := func() {
		select {
		case told <- struct{}{}:
		default:
		}
	}
	go e.store.Listen(ctx, func(event store.Event) {
		if event.What == "relay" || event.What == "site" {
			tell()
		}
	}, tell)
	go func() {
		for {
			if err := e.setRelays(ctx, server, reach(reached)); err != nil && ctx.Err() == nil {
				e.log.Warn("the relays cannot be kept up to date", "err", err)
			}
			select {
			case <-ctx.Done():
				return
			case <-told:
			case <-time.After(relaysEvery):
			}
		}
	}()
	return server.Serve(ctx, l)
}

// setRelays tells the server which relays there are. One whose sign-in cannot be read is left out.
func (e *env) setRelays(ctx context.Context, server *relay.Server, reached reach) error {
	sites, err := e.store.Sites.List(ctx)
	if err != nil {
		return err
	}
	var list []relay.Relay
	for _, s := range sites {
		if !reached.includes(s) {
			continue
		}
		of, err := e.store.Relays.List(ctx, s.ID)
		if err != nil {
			return err
		}
		for _, r := range of {
			secret, err := e.store.Relays.Secret(ctx, r.ID)
			if err != nil {
				e.log.Warn("the sign-in of a relay cannot be read", "path", r.Path, "err", err)
				continue
			}
			list = append(list, relay.Relay{ID: r.ID.String(), Path: r.Path, User: r.User, Secret: secret, Most: r.Most, Always: r.Always,
				Take: func(ctx context.Context) (*fanout.Consumer, error) { return e.take(ctx, r.Device, r.Role) }})
		}
	}
	server.Set(list)
	return e.store.Relays.Going(ctx, going(server.Statuses()))
}

// going returns how relays go, as the store keeps it.
func going(list []relay.Status) (out []store.RelayStatus) {
	for _, s := range list {
		out = append(out, store.RelayStatus{ID: s.ID, Takers: s.Takers, Packets: int64(s.Packets), Lost: int64(s.Lost), Problem: s.Problem})
	}
	slices.SortFunc(out, func(a, b store.RelayStatus) int { return slices.Compare([]byte(a.ID), []byte(b.ID)) })
	return out
}
