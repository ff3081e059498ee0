package demo

import (
	"context"
	"net/netip"
	"strings"

	"github.com/google/uuid"

	"unlatch/core/decide/act"
	"unlatch/core/decide/camlist"
	"unlatch/core/ground/signin"
	"unlatch/core/wire/target"
	"unlatch/core/wire/target/byhand"
	"unlatch/core/wire/target/feed"
	"unlatch/core/wire/target/hub"
	"unlatch/core/wire/target/live"
	"unlatch/core/wire/target/viabridge"
	"unlatch/store"
)

// FeedName is the list that the five screens take.
const FeedName = "Waiting room screens"

// patch adds the station's targets and puts some cameras onto them: some stand right, some half, and each other one is wrong in its
// own way.
func (r *railway) patch(ctx context.Context, station uuid.UUID) error {
	desk, err := r.targetSignIn(ctx, signin.New{Label: "Target desk", User: "desk", Secret: signin.NewSecret("Oak-Door-52")})
	if err != nil {
		return err
	}
	stream, err := r.targetSignIn(ctx, signin.New{Label: "Beacon Line account", User: "tarnside", Secret: signin.NewSecret("Bright-Key-77")})
	if err != nil {
		return err
	}
	ids, err := r.targets(ctx, station)
	if err != nil {
		return err
	}
	add := func(kind target.Kind, name, last string, port uint16, form act.TargetForm) error {
		if _, there := ids[name]; there {
			return nil
		}
		form.Kind, form.Name = kind, name
		a := act.AddTarget{Site: station, ID: uuid.Must(uuid.NewV7()), TargetForm: form}
		if last != "" {
			a.Address = map[bool]string{true: "mqtt://", false: "http://"}[kind == hub.Kind] +
				netip.AddrPortFrom(netip.MustParseAddr(r.on(last)), port).String()
		}
		if kind != feed.Kind && kind != byhand.Kind && name != "Staff room voice" {
			a.Agree = []target.Secret{target.OwnSignIn, target.CameraSignIn, target.StreamKey}
		}
		ids[name] = a.ID
		return r.do(ctx, a)
	}
	csv, _ := camlist.ByName("CSV")
	with := act.TargetForm{SignIn: &desk}
	for _, x := range []struct {
		kind       target.Kind
		name, last string
		port       uint16
		form       act.TargetForm
	}{
		{viabridge.Kind, "Parcel vault", "1.70", 8081, with},
		{viabridge.Kind, "Guard room", "1.71", 8081, with},
		{viabridge.Kind, "Overlea Desk", "1.72", 8081, with},
		{viabridge.Kind, "Sillwater panel", "1.73", 8081, with},
		{viabridge.Kind, "Doorstead station", "1.74", 8081, with},
		{hub.Kind, "Hearthline hub", "1.75", 1883, with},
		{viabridge.Kind, "Staff room voice", "1.76", 8081, with}, // it takes the sign-in readable, and nobody has agreed
		{feed.Kind, FeedName, "", 0, act.TargetForm{}},
		{byhand.Kind, "Signal box list", "", 0, act.TargetForm{Settings: map[string]string{"text": csv.Text, "file": csv.File}}},
	} {
		if err := add(x.kind, x.name, x.last, x.port, x.form); err != nil {
			return err
		}
	}
	vault := ids["Parcel vault"]
	if err := add(live.Kind, "Beacon Line", "1.77", 8081, act.TargetForm{SignIn: &stream, Via: &vault,
		Settings: map[string]string{live.Ingest: "rtmp://" + r.on("1.77") + ":8082/live", live.Stream: "sub"}}); err != nil {
		return err
	}
	if err := r.placeSome(ctx, station, ids); err != nil {
		return err
	}
	return r.do(ctx, act.LookAt{Site: station})
}

// targetSignIn returns the sign-in of a label for targets, which it adds to the keyring where it is missing.
func (r *railway) targetSignIn(ctx context.Context, key signin.New) (uuid.UUID, error) {
	list, err := r.desk.Store.SignIns.List(ctx)
	if err != nil {
		return uuid.Nil, err
	}
	for _, have := range list {
		if have.Label == key.Label {
			return have.ID, nil
		}
	}
	key.ID, key.Purpose = uuid.Must(uuid.NewV7()), signin.Target
	return key.ID, r.do(ctx, act.AddSignIn{New: key})
}

// targets returns the IDs of a site's targets by name.
func (r *railway) targets(ctx context.Context, site uuid.UUID) (map[string]uuid.UUID, error) {
	list, err := r.desk.Store.Targets.List(ctx, site)
	ids := map[string]uuid.UUID{}
	for _, t := range list {
		ids[t.Name] = t.ID
	}
	return ids, err
}

// placeSome puts cameras onto the targets, by name.
func (r *railway) placeSome(ctx context.Context, station uuid.UUID, ids map[string]uuid.UUID) error {
	devices, err := r.desk.Store.Devices.List(ctx, station)
	if err != nil {
		return err
	}
	cameras := map[string]*store.Device{}
	for i := range devices {
		cameras[strings.TrimPrefix(devices[i].Addr, r.network+".")] = &devices[i]
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
		for _, last := range x.lasts { // one after the other, so that slots are filled in order
			camera, known := cameras[last]
			if !known || camera.Status.PlacementOn(ids[x.name]) != nil {
				continue
			}
			place := act.Place{Site: station, Placements: []act.Placement{{Device: camera.ID, Target: ids[x.name]}}}
			// The screens come for their list once the server runs.
			if done, err := r.desk.Do(ctx, r.by, place); err != nil {
				return err
			} else if x.name != FeedName {
				if err := wait(ctx, r.desk.Store, *done.Run); err != nil {
					return err
				}
			}
		}
	}
	return nil
}
