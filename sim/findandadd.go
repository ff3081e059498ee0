package sim

import (
	"context"
	"fmt"
	"net/netip"
	"strings"

	"unlatch/core/ground/address"
	"unlatch/core/ground/signin"
	"unlatch/core/stream/sighting"
	"unlatch/core/wire/discovery"
	"unlatch/core/wire/onvif"
)

// FindAndAdd has a recorder do what its own menu offers: it searches some ranges by WS-Discovery, signs in to each device that it does not
// record yet, and records the first stream of those that the sign-in opens. It returns the addresses of those.
func (l Look) FindAndAdd(ctx context.Context, ranges address.Ranges, in signin.SignIn) (added []string, err error) {
	found := map[string]netip.Addr{}
	sweep := discovery.Sweep{Ranges: ranges, Ports: []uint16{9}} // nothing answers there: it looks for announcements alone
	if err := sweep.Run(ctx, func(s sighting.Sighting) {
		if s.Method == sighting.WSDiscovery && s.XAddr != "" && ranges.Contains(s.Addr) {
			found[s.XAddr] = s.Addr
		}
	}); err != nil {
		return nil, err
	}
	for at, addr := range found {
		if l.d.recorder.records(addr.String()) {
			continue
		}
		uri, err := firstStream(ctx, at, ranges, in)
		if err != nil {
			continue // another's device
		}
		l.d.recorder.record(addr.String(), strings.Replace(uri, "://", "://"+in.User+":"+in.Secret.Reveal()+"@", 1))
		added = append(added, at)
	}
	return added, nil
}

// firstStream asks a device for the URL of its first stream.
func firstStream(ctx context.Context, at string, ranges address.Ranges, in signin.SignIn) (string, error) {
	c := onvif.New(at, onvif.Options{Dial: &address.Guard{Allowed: ranges}, SignIn: in})
	defer c.Close()
	if _, err := c.Clock(ctx); err != nil {
		return "", err
	}
	streams, err := c.Profiles(ctx)
	if err == nil && len(streams) == 0 {
		err = fmt.Errorf("%s has no profile", at)
	}
	if err == nil {
		err = c.StreamURL(ctx, &streams[0])
	}
	if err != nil {
		return "", err
	}
	return streams[0].URL, nil
}

// records reports whether there is a recording of an address.
func (r *recorder) records(addr string) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, rec := range r.state.Recordings {
		if rec.Address == addr {
			return true
		}
	}
	return false
}

// record begins a recording of a stream.
func (r *recorder) record(addr, uri string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	defer r.save()
	recording, receiver, job := r.token("rec"), r.token("rcv"), r.token("job")
	r.state.Recordings[recording] = recordingState{SourceID: addr, Name: addr, Address: addr, Tracks: 1}
	r.state.Receivers[receiver] = uri
	r.state.Jobs[job] = jobState{Recording: recording, Receivers: []string{receiver}}
	r.startPull(receiver)
	r.roll()
}
