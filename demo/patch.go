package demo

import (
	"context"
	"fmt"
	"net/netip"
	"strings"

	"github.com/google/uuid"

	"unlatch/core/bringup"
	"unlatch/core/camlist"
	"unlatch/core/signin"
	"unlatch/core/target"
	"unlatch/core/target/byhand"
	"unlatch/core/target/feed"
	"unlatch/core/target/hub"
	"unlatch/core/target/live"
	"unlatch/core/target/viabridge"
	"unlatch/jobs"
	"unlatch/store"
)

// FeedName is the list that the five screens take.
const FeedName = "Waiting room screens"

// keeper is who has set the demo up.
var keeper = store.Person{Name: "the demo"}

// patch adds the station's targets and puts some cameras onto them: some stand right, some half, and each other one is wrong in its own way.
func (r *railway) patch(ctx context.Context, station store.Site) error {
	desk, err := r.s.SignIns.Add(ctx, store.NewSignIn{Label: "Target desk", User: "desk", Secret: signin.NewSecret("Oak-Door-52"),
		Terms: store.Terms{Purpose: signin.Target}})
	if err != nil {
		return err
	}
	stream, err := r.s.SignIns.Add(ctx, store.NewSignIn{Label: "Beacon Line account", User: "tarnside", Secret: signin.NewSecret("Bright-Key-77"),
		Terms: store.Terms{Purpose: signin.Target}})
	if err != nil {
		return err
	}
	ids := map[string]uuid.UUID{}
	add := func(kind target.Kind, name, last string, port uint16, t store.Target) error {
		t.Site, t.Kind, t.Name = station.ID, kind, name
		if t.Settings.V == nil {
			t.Settings.V = map[string]string{}
		}
		var reach []netip.AddrPort
		if last != "" {
			at := netip.AddrPortFrom(netip.MustParseAddr(r.on(last)), port)
			reach = append(reach, at)
			t.Address = map[bool]string{true: "mqtt://", false: "http://"}[kind == hub.Kind] + at.String()
		}
		id, err := r.s.Targets.Add(ctx, keeper, t, reach)
		if ids[name] = id; err != nil || kind == feed.Kind || kind == byhand.Kind || name == "Staff room voice" {
			return err
		}
		t.ID = id
		return r.s.Targets.Agree(ctx, keeper, t, nil, target.OwnSignIn, target.CameraSignIn, target.StreamKey)
	}
	csv, _ := camlist.ByName("CSV")
	with := store.Target{SignIn: &desk}
	for _, x := range []struct {
		kind       target.Kind
		name, last string
		port       uint16
		t          store.Target
	}{
		{viabridge.Kind, "Parcel vault", "1.70", 8081, with},
		{viabridge.Kind, "Guard room", "1.71", 8081, with},
		{viabridge.Kind, "Overlea Desk", "1.72", 8081, with},
		{viabridge.Kind, "Sillwater panel", "1.73", 8081, with},
		{viabridge.Kind, "Doorstead station", "1.74", 8081, with},
		{hub.Kind, "Hearthline hub", "1.75", 1883, store.Target{SignIn: &desk}},
		{viabridge.Kind, "Staff room voice", "1.76", 8081, with}, // it takes the sign-in readable, and nobody has agreed
		{feed.Kind, FeedName, "", 0, store.Target{}},
		{byhand.Kind, "Signal box list", "", 0, store.Target{Settings: store.JSON(map[string]string{"text": csv.Text, "file": csv.File})}},
	} {
		if err := add(x.kind, x.name, x.last, x.port, x.t); err != nil {
			return err
		}
	}
	vault := ids["Parcel vault"]
	if err := add(live.Kind, "Beacon Line", "1.77", 8081, store.Target{SignIn: &stream, Via: &vault,
		Settings: store.JSON(map[string]string{live.Ingest: "rtmp://" + r.on("1.77") + ":8082/live", live.Stream: "sub"})}); err != nil {
		return err
	}
	if _, err := r.s.Targets.OpenFeed(ctx, keeper, station.ID, ids[FeedName]); err != nil {
		return err
	}
	known, err := r.s.Targets.List(ctx, station.ID)
	if err != nil {
		return err
	}
	var all []uuid.UUID
	for _, t := range known {
		if t.Kind != feed.Kind && t.Kind != byhand.Kind {
			all = append(all, t.ID)
		}
	}
	if err := r.look(ctx, station, all); err != nil {
		return err
	}
	devices, err := r.s.Devices.List(ctx, station.ID)
	if err != nil {
		return err
	}
	cameras := map[string]uuid.UUID{}
	for i := range devices {
		cameras[strings.TrimPrefix(devices[i].Addr, r.network+".")] = devices[i].ID
	}
	put := func(name string, lasts ...string) error {
		var list []jobs.Place
		var wish []store.Wish
		for _, l := range lasts {
			if id, ok := cameras[l]; ok {
				wish = append(wish, store.Wish{Device: id})
				list = append(list, jobs.Place{Device: id, Placing: bringup.Placing{Target: ids[name]}})
			}
		}
		if err := r.s.Targets.Wish(ctx, wish, ids[name]); err != nil || name == FeedName {
			return err // the screens come for their list once the server runs
		}
		for i := range list { // one after the other, so that slots are filled in order
			run, err := r.q.Place(ctx, station.ID, fmt.Sprintf("Place a camera on %s", name), list[i:i+1])
			if err == nil {
				err = wait(ctx, r.s, run)
			}
			if err != nil {
				return err
			}
		}
		return nil
	}
	for _, x := range []struct {
		name  string
		lasts []string
	}{
		{"Parcel vault", []string{"1.11", "1.12", "1.13"}}, // the second shows the first one's picture
		{"Overlea Desk", []string{"1.11", "1.12", "1.14"}},
		{"Sillwater panel", []string{"1.11", "1.14"}}, // the second is of a size that the panel does not take
		{"Doorstead station", []string{"1.11"}},
		{"Hearthline hub", []string{"1.12", "1.15"}},
		{"Signal box list", []string{"1.14", "1.15"}},
		{FeedName, []string{"1.11", "1.12", "1.15"}},
	} {
		if err := put(x.name, x.lasts...); err != nil {
			return err
		}
	}
	return r.look(ctx, station, all)
}

// look asks targets what they are and how their slots stand.
func (r *railway) look(ctx context.Context, station store.Site, ids []uuid.UUID) error {
	run, err := r.q.LookAt(ctx, station.ID, fmt.Sprintf("Look at %d targets", len(ids)), ids, false)
	if err != nil {
		return err
	}
	return wait(ctx, r.s, run)
}
