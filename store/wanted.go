package store

import (
	"context"
	"time"

	"github.com/google/uuid"

	"unlatch/core/decide/act"
	"unlatch/core/decide/latch"
	"unlatch/core/stream/conversion"
	"unlatch/core/stream/intake"
	"unlatch/core/wire/target"
)

// latchTarget returns a target in the form by which core judges what fits on it.
func latchTarget(t Target, books []*intake.Book) latch.Target {
	out := latch.Target{ID: t.ID, Kind: t.Kind, Name: t.Name, Intake: namedIntake(books, t.Intake)}
	if t.About != nil {
		addOwnWord(&out, &t.About.V)
	}
	return out
}

// Latch returns the target as what fits on it is judged by.
func (s Targets) Latch(ctx context.Context, t Target) (latch.Target, error) {
	books, err := Shelf(s).Intakes(ctx)
	return latchTarget(t, books), err
}

// A wantedRow is a target that somebody wants a device on.
type wantedRow struct {
	Device uuid.UUID     `json:"device_id"`
	Target uuid.UUID     `json:"target_id"`
	Kind   target.Kind   `json:"kind"`
	Name   *string       `json:"name"`
	Addr   string        `json:"addr"`
	Intake string        `json:"intake"`
	About  *target.About `json:"about"`
	Slot   string        `json:"slot"`
	Role   string        `json:"role"`
	Silent *time.Time    `json:"silent_since"`
	// Elsewhere says that it stands outside the site.
	Elsewhere bool `json:"elsewhere"`
	// Relay is the stream served on that it is given; nil for none.
	Relay *relayRow `json:"relay"`
}

// A relayRow is a stream that is served on for a target.
type relayRow struct {
	ID   uuid.UUID        `json:"id"`
	Role string           `json:"role"`
	Path string           `json:"path"`
	At   string           `json:"at"`
	User string           `json:"user_name"`
	Form conversion.Shape `json:"form"`
}

// latch returns the relay as a placement goes through it. Another user has another password too.
func (r *relayRow) latch() *latch.Relay {
	if r == nil {
		return nil
	}
	return &latch.Relay{ID: r.ID, Role: r.Role, URL: "rtsp://" + r.At + "/" + r.Path, Form: r.Form, Key: uuid.NewSHA1(r.ID, []byte(r.User))}
}

func wantedQuery(where string) string {
	return `SELECT w.device_id, w.target_id, t.kind, COALESCE(NULLIF(t.name, ''), v.name) AS name,
		COALESCE(v.addr, t.address) AS addr, t.intake, t.about, t.silent_since, w.slot, w.role,
		COALESCE(t.settings->>'elsewhere', '') = 'yes' AS elsewhere,
		(SELECT row_to_json(r) FROM (SELECT id, role, path, at, user_name, form FROM relays x
			WHERE x.device_id = w.device_id AND x.target_id = w.target_id) r) AS relay
		FROM wanted_placements w JOIN devices d ON d.id = w.device_id JOIN targets t ON t.id = w.target_id
			LEFT JOIN devices v ON v.id = t.device_id
		WHERE ` + where + ` ORDER BY w.created_at`
}

// wantedTargets returns the targets that each device shall stand on, in the order in which people wanted them.
func wantedTargets(rows []wantedRow, books []*intake.Book) map[uuid.UUID][]latch.Target {
	out := map[uuid.UUID][]latch.Target{}
	for _, w := range rows {
		t := latch.Target{ID: w.Target, Kind: w.Kind, Intake: namedIntake(books, w.Intake), Role: w.Role, Slot: w.Slot,
			Elsewhere: w.Elsewhere, Relay: w.Relay.latch()}
		if w.Silent != nil {
			t.SilentSince = *w.Silent
		}
		if w.Name != nil {
			t.Name = *w.Name
		}
		if t.Name == "" {
			t.Name = "the recorder at " + w.Addr
		}
		addOwnWord(&t, w.About)
		out[w.Device] = append(out[w.Device], t)
	}
	return out
}

// namedIntake finds an intake by its name; nil where no book has it, or nobody has named one.
func namedIntake(books []*intake.Book, name string) *intake.Intake {
	if name == "" {
		return nil
	}
	for _, b := range books {
		if x, ok := b.Find(name); ok {
			return &x
		}
	}
	return nil
}

// addOwnWord adds to a target what it says of itself; what a person has said of what it takes goes before its own word.
func addOwnWord(t *latch.Target, about *target.About) {
	if about == nil {
		return
	}
	t.Through, t.Both = about.Through, about.Both
	if t.Intake == nil {
		t.Intake = about.Intake
	}
}

// servingFacts reads the workers that serve streams of the site on.
func (s Acts) servingFacts(ctx context.Context, a act.About, f *act.Facts, _ map[uuid.UUID]bool) (err error) {
	if a.WithServing {
		f.Serving, err = s.Relays.Serving(ctx, f.Site.Name, f.Site.Ranges)
	}
	return err
}

// wantedSlots reads which slots of targets are wanted for cameras, by name.
func (s Acts) wantedSlots(ctx context.Context, a act.About, f *act.Facts, _ map[uuid.UUID]bool) error {
	if !a.WithWanted || len(a.Targets) == 0 {
		return nil
	}
	return s.on(ctx).SelectContext(ctx, &f.Wanted, "SELECT device_id AS device, target_id AS target, slot, role FROM wanted_placements "+
		"WHERE target_id = ANY($1) AND slot <> ''", a.Targets)
}
