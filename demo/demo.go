// Package demo is the Tarnside scenario and the work that stands done when the demo first opens: real sweeps, real proofs and
// real placements against the stand-ins, nothing painted on.
package demo

import (
	"bytes"
	"cmp"
	"context"
	_ "embed"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"unlatch/core/decide/act"
	"unlatch/core/ground/address"
	"unlatch/core/ground/signin"
	"unlatch/core/stream/sighting"
	"unlatch/core/wire/target"
	"unlatch/jobs"
	"unlatch/sim"
	"unlatch/store"
)

//go:embed tarnside.yaml
var tarnside []byte

// Network is the loopback network of the railway: the first two numbers of its addresses, 127 and another.
const Network = "127.40"

// RelayAt is where streams are served on, behind the network, FacesAt where they have ONVIF faces, and PagesAt where web pages play them.
const (
	RelayAt = ".1.5:8554"
	FacesAt = ".1.5:8580-8589"
	PagesAt = ".1.5:8590"
)

var networks = regexp.MustCompile(`^127\.(\d{1,2}|1\d\d|2[0-4]\d|25[0-5])$`)

// Scenario returns the railway's devices on a loopback network, Network where it is empty. On another than Network they are other
// devices, with serials of their own: two railways run beside each other on one machine.
func Scenario(network string) (*sim.Scenario, error) {
	raw := tarnside
	if network != "" && network != Network {
		if !networks.MatchString(network) {
			return nil, fmt.Errorf("%q is no loopback network: give two numbers, for instance 127.50", network)
		}
		raw = bytes.ReplaceAll(raw, []byte(Network+"."), []byte(network+"."))
		raw = bytes.ReplaceAll(raw, []byte("group: 239.40."), []byte("group: 239."+strings.TrimPrefix(network, "127.")+"."))
		raw = regexp.MustCompile(`serial: ([A-Z0-9-]+)`).ReplaceAll(raw, []byte("serial: ${1}-"+strings.TrimPrefix(network, "127.")))
	}
	return sim.ParseScenario(raw)
}

// A railway is where the work is done: the desk that acts go over, whoever acts, and the network.
type railway struct {
	desk    jobs.Desk
	by      act.Person
	network string
}

// do carries an act out and waits for the run that it begins.
func (r *railway) do(ctx context.Context, a act.Act) error {
	done, err := r.desk.Do(ctx, r.by, a)
	if err != nil || done.Run == nil {
		return err
	}
	return wait(ctx, r.desk.Store, *done.Run)
}

// on returns an address of the railway by its last two numbers.
func (r *railway) on(rest string) string { return r.network + "." + rest }

// names is what the people at Tarn Ferry call their cameras, by the last two numbers of their addresses.
var names = map[string]string{
	"1.11": "Platform clock", "1.12": "Footbridge", "1.13": "Ticket window", "1.14": "Signal box stairs",
	"1.15": "Water tower", "1.16": "Crossing south", "1.31": "Parcels office", "1.32": "Booking hall",
	"1.33": "Lamp room", "1.46": "Coal wharf", "1.34": "Goods yard", "1.20": "Strongroom",
}

// Station is the site whose cameras are worked through; crossing is swept and left.
const (
	Station  = "Tarn Ferry station"
	crossing = "Viaduct crossing"
)

// Crossing returns the site of the crossing, which a worker of its own reaches.
func Crossing(ctx context.Context, s *store.Store) (store.Site, error) {
	sites, err := s.Sites.List(ctx)
	if err != nil {
		return store.Site{}, err
	}
	i := slices.IndexFunc(sites, func(x store.Site) bool { return x.Name == crossing })
	if i < 0 {
		return store.Site{}, errors.New("the crossing’s site is gone")
	}
	return sites[i], nil
}

// untouched are heard and left for the person to try.
var untouched = map[string]bool{"1.41": true, "1.42": true, "1.43": true, "1.44": true}

// onRecorder is how many of the station's cameras stand on the recorder already.
const onRecorder = 4

// Begin fills an empty store for somebody with what needs no device: three sites and a keyring. The network is the one of the scenario.
func Begin(ctx context.Context, desk jobs.Desk, by act.Person, network string) error {
	r := &railway{desk, by, cmp.Or(network, Network)}
	for _, x := range []struct{ name, ranges string }{{Station, "1.0/24"}, {"Engine Works", "2.0/24"}, {crossing, "3.0/24"}} {
		id := uuid.Must(uuid.NewV7())
		if err := r.do(ctx, act.CreateSite{ID: id, SiteForm: act.SiteForm{Name: x.name, Customer: "Tarnside Railway",
			Ranges: address.MustParse(r.on(x.ranges))}}); err != nil {
			return err
		}
	}
	for _, in := range []struct{ label, user, secret string }{
		{"Railway fitter", "fitter", "Brass-Lamp-41"},
		{"Last contractor", "steward", "Green-Flag-07"},
	} {
		if err := r.do(ctx, act.AddSignIn{New: signin.New{Label: in.label, User: in.user, Secret: signin.NewSecret(in.secret)}}); err != nil {
			return err
		}
	}
	return nil
}

// Work sweeps two of the sites that Begin made, and leaves the station half done. Done again after it was stopped midway, it does what
// is missing.
func Work(ctx context.Context, desk jobs.Desk, by act.Person, network string) error {
	r := &railway{desk, by, cmp.Or(network, Network)}
	sites, err := desk.Store.Sites.List(ctx)
	if err != nil {
		return err
	}
	for _, site := range sites {
		if site.Name != Station && site.Name != crossing {
			continue
		}
		if err := r.do(ctx, act.Sweep{Site: site.ID}); err != nil {
			return err
		}
	}
	for _, site := range sites {
		if site.Name == Station {
			return r.work(ctx, site.ID)
		}
	}
	return errors.New("the station’s site is gone")
}

// work opens the latches of the station's cameras and puts some of them on the recorder.
func (r *railway) work(ctx context.Context, station uuid.UUID) error {
	devices, err := r.desk.Store.Devices.List(ctx, station)
	if err != nil {
		return err
	}
	var cameras []uuid.UUID
	var recorder uuid.UUID
	for i := range devices {
		d := &devices[i]
		if d.Status.Device.Stray {
			continue // a device of somebody else's network that was heard on this machine, or one that is left for the person to find
		}
		last := strings.TrimPrefix(d.Addr, r.network+".")
		if n := names[last]; n != "" && d.Via == nil {
			if err := r.do(ctx, act.Rename{Device: d.ID, Name: n}); err != nil {
				return err
			}
		}
		switch {
		case d.Status.Device.Kind == sighting.Recorder:
			recorder = d.ID
		case d.Status.Device.Kind == sighting.Camera && !untouched[last]:
			cameras = append(cameras, d.ID)
		}
	}
	if recorder == uuid.Nil || len(cameras) < onRecorder {
		return errors.New("the stand-ins were not all heard")
	}
	if err := r.do(ctx, act.Open{Site: station, Devices: append(cameras, recorder)}); err != nil {
		return err
	}
	if err := r.markPlan(ctx, station); err != nil {
		return err
	}
	if err := r.behind(ctx, station, recorder); err != nil {
		return err
	}
	agree := act.AgreeForTarget{Site: station, Target: recorder, Secret: target.CameraSignIn}
	if err := r.do(ctx, agree); err != nil {
		return err
	}
	place := act.Place{Site: station}
	for _, id := range cameras[:onRecorder] {
		place.Placements = append(place.Placements, act.Placement{Device: id, Target: recorder})
	}
	if err := r.do(ctx, place); err != nil {
		return err
	}
	return r.patch(ctx, station)
}

// behind opens the first cameras on the recorder's own switch.
func (r *railway) behind(ctx context.Context, station, recorder uuid.UUID) error {
	devices, err := r.desk.Store.Devices.List(ctx, station)
	if err != nil {
		return err
	}
	var channels []uuid.UUID
	for i := range devices {
		if d := &devices[i]; d.Via != nil && *d.Via == recorder && d.Channel < 4 {
			channels = append(channels, d.ID)
		}
	}
	return r.do(ctx, act.Open{Site: station, Devices: channels})
}

// wait returns when a run has ended.
func wait(ctx context.Context, s *store.Store, r store.Run) error {
	for {
		now, err := s.Runs.Get(ctx, r.ID)
		if err != nil {
			return err
		}
		if !now.Running() {
			return nil
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
	}
}
