package store

import (
	"context"
	"time"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"

	"unlatch/core/ground/signin"
)

// SignIns are the keyring, and the tries that were made with it.
type SignIns struct{ *database }

// A SignIn is an entry of the keyring without its secret.
type SignIn struct {
	ID       uuid.UUID     `db:"id" json:"id"`
	Label    string        `db:"label" json:"label"`
	User     string        `db:"user_name" json:"user"`
	Created  time.Time     `db:"created_at" json:"created_at"`
	Changed  time.Time     `db:"changed_at" json:"changed_at"`
	Opens    int           `db:"opens" json:"opens" doc:"devices that it opened last"`
	Used     *time.Time    `db:"used_at" json:"used_at,omitempty" doc:"when it was last tried"`
	Turn     signin.Turn   `db:"-" json:"-"`         // of a candidate: why it stands where it does
	Opened   *time.Time    `db:"opened_at" json:"-"` // of a candidate: when it last opened this device
	Last     signin.Result `db:"last" json:"-"`      // of a candidate: how the last try of it on this device ended
	Position int           `db:"position" json:"-"`
	// Of a candidate: how many devices of the same kind it has opened, and how many have refused it.
	OpensAlike   int `db:"opens_alike" json:"-"`
	RefusedAlike int `db:"refused_alike" json:"-"`
	// Of a candidate: this device has refused it, and has not opened by it since.
	RefusedHere bool `db:"refused_here" json:"-"`
	signin.Terms
}

// Known is what a device says of itself, as far as the order of sign-ins goes by it.
type Known struct {
	Words string // maker, name and model, in any of which a maker's name may stand
	Kind  string // what devices of the same kind have in common
}

const signInColumns = "s.id, s.label, s.user_name, s.created_at, s.changed_at, s.factory, s.note, s.site_id AS site, s.maker, " +
	"s.purpose, s.bound"

// SetTerms changes where a sign-in may be tried and what it is called.
func (s SignIns) SetTerms(ctx context.Context, id uuid.UUID, label string, t signin.Terms) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if err := touchedOne(tx.ExecContext(ctx,
			"UPDATE sign_ins SET label = $2, factory = $3, note = $4, site_id = $5, maker = $6, purpose = $7, "+
				"bound = $8 WHERE id = $1",
			id, label, t.Factory, t.Note, t.Site, t.Maker, t.Purpose, t.Bound || len(t.Devices) > 0)); err != nil {
			return err
		}
		if err := bind(ctx, tx, id, t.Devices); err != nil {
			return err
		}
		return s.intoScope(ctx, tx, id)
	})
}

// bind replaces the devices that a sign-in is for.
func bind(ctx context.Context, tx *sqlx.Tx, id uuid.UUID, devices []uuid.UUID) error {
	if _, err := tx.ExecContext(ctx, "DELETE FROM sign_in_devices WHERE sign_in_id = $1", id); err != nil || len(devices) == 0 {
		return err
	}
	_, err := tx.ExecContext(ctx, "INSERT INTO sign_in_devices (sign_in_id, device_id) SELECT $1, unnest($2::uuid[])", id, devices)
	return err
}

// Order sets the order in which sign-ins of equal standing are tried; those that are not named come after.
func (s SignIns) Order(ctx context.Context, ids []uuid.UUID) error {
	_, err := s.on(ctx).ExecContext(ctx, "UPDATE sign_ins SET position = COALESCE(array_position($1::uuid[], id), 1000000)", ids)
	return err
}

// AddAll puts sign-ins on the keyring, all of them or none, and returns their IDs in order.
func (s SignIns) AddAll(ctx context.Context, list ...signin.New) (ids []uuid.UUID, err error) {
	err = s.tx(ctx, func(tx *sqlx.Tx) error {
		for _, n := range list {
			if n.ID == uuid.Nil {
				n.ID = newID()
			}
			if _, err := tx.ExecContext(ctx,
				`INSERT INTO sign_ins (id, label, user_name, sealed, factory, note, site_id, maker, purpose, bound) VALUES ($1, $2, $3, '', `+
					`$4, $5, $6, $7, $8, $9)`,
				n.ID, n.Label, n.User, n.Factory, n.Note, n.Site, n.Maker, n.Purpose, n.Bound || len(n.Devices) > 0); err != nil {
				return err
			}
			if err := bind(ctx, tx, n.ID, n.Devices); err != nil {
				return err
			}
			site, err := scopeOf(ctx, tx, n.ID)
			if err != nil {
				return err
			}
			by, err := s.cipherOf(ctx, tx, site)
			if err != nil {
				return err
			}
			if _, err := tx.ExecContext(ctx, "UPDATE sign_ins SET sealed = $2, key_id = $3 WHERE id = $1", n.ID,
				by.Encrypt(n.Secret.Reveal(), n.ID.String()), by.Key); err != nil {
				return err
			}
			ids = append(ids, n.ID)
		}
		return nil
	})
	return ids, err
}

// Add puts one sign-in on the keyring.
func (s SignIns) Add(ctx context.Context, n signin.New) (uuid.UUID, error) {
	ids, err := s.AddAll(ctx, n)
	if err != nil {
		return uuid.Nil, err
	}
	return ids[0], nil
}

// Delete takes one off the keyring.
func (s SignIns) Delete(ctx context.Context, id uuid.UUID) error {
	return touchedOne(s.on(ctx).ExecContext(ctx, "DELETE FROM sign_ins WHERE id = $1", id))
}

// List lists the keyring in the order in which it is tried.
func (s SignIns) List(ctx context.Context) ([]SignIn, error) {
	var out []SignIn
	err := s.on(ctx).SelectContext(ctx, &out,
		`SELECT `+signInColumns+`, (SELECT max(at) FROM tries t WHERE t.sign_in_id = s.id) AS used_at,
		(SELECT count(DISTINCT device_id) FROM tries t WHERE t.sign_in_id = s.id AND result = 'opened') AS opens
		FROM sign_ins s ORDER BY s.position, created_at, id`)
	if err != nil {
		return nil, err
	}
	return out, s.devicesOf(ctx, out)
}

// devicesOf reads the devices that bound sign-ins are for.
func (s SignIns) devicesOf(ctx context.Context, list []SignIn) error {
	var links []struct {
		SignIn uuid.UUID `db:"sign_in_id"`
		Device uuid.UUID `db:"device_id"`
	}
	if err := s.on(ctx).SelectContext(ctx, &links, "SELECT sign_in_id, device_id FROM sign_in_devices ORDER BY device_id"); err != nil {
		return err
	}
	for i := range list {
		for _, l := range links {
			if l.SignIn == list[i].ID {
				list[i].Devices = append(list[i].Devices, l.Device)
			}
		}
	}
	return nil
}

// Get returns one entry of the keyring.
func (s SignIns) Get(ctx context.Context, id uuid.UUID) (SignIn, error) {
	var k SignIn
	return k, notFoundIfNone(s.on(ctx).GetContext(ctx, &k, "SELECT "+signInColumns+" FROM sign_ins s WHERE id = $1", id))
}

// Decrypt returns a sign-in with its secret, for use on a device.
func (s SignIns) Decrypt(ctx context.Context, id uuid.UUID) (signin.SignIn, error) {
	in, _, err := s.Take(ctx, id)
	return in, err
}

// Take is Decrypt, and returns when the entry was changed last besides.
func (s SignIns) Take(ctx context.Context, id uuid.UUID) (in signin.SignIn, changed time.Time, err error) {
	var row struct {
		Changed time.Time  `db:"changed_at"`
		User    string     `db:"user_name"`
		Sealed  []byte     `db:"sealed"`
		Key     *uuid.UUID `db:"key_id"`
	}
	if err := s.on(ctx).GetContext(ctx, &row, "SELECT user_name, sealed, key_id, changed_at FROM sign_ins WHERE id = $1", id); err != nil {
		return in, changed, notFoundIfNone(err)
	}
	secret, err := s.decryptBy(ctx, row.Key, row.Sealed, id.String())
	return signin.SignIn{ID: id.String(), User: row.User, Secret: signin.NewSecret(secret)}, row.Changed, err
}

// Candidates lists the sign-ins to try for one purpose on a device in order, each with its reason: what opened it before, then what is
// for this device, for its maker, for its site, and the rest; among equals what has opened devices of its kind, then what such devices
// have refused least, then what opened more devices at all. What is for another device, site, maker or purpose is left out, and so is
// what has been refused for this purpose since the sign-in was last changed, unless a person wants it tried again: then it stands
// behind what was not.
func (s SignIns) Candidates(ctx context.Context, device, site uuid.UUID, known Known, purpose signin.Purpose, again bool) ([]SignIn,
	error) {
	var out []SignIn
	err := s.on(ctx).SelectContext(ctx, &out,
		`SELECT * FROM (SELECT `+signInColumns+`, s.position, COALESCE((SELECT result FROM tries t WHERE t.device_id = $1
			AND t.sign_in_id = s.id AND t.purpose = $4 ORDER BY at DESC LIMIT 1), '') AS last,
			(SELECT max(at) FROM tries t WHERE t.sign_in_id = s.id) AS used_at,
			(SELECT max(at) FROM tries t WHERE t.device_id = $1 AND t.sign_in_id = s.id AND t.purpose = $4 AND t.result = 'opened') AS opened_at,
			(SELECT count(DISTINCT device_id) FROM tries t WHERE t.sign_in_id = s.id AND t.result = 'opened') AS opens,
			(SELECT count(DISTINCT device_id) FROM tries t WHERE t.sign_in_id = s.id AND t.likeness = $5 AND t.purpose = $4
				AND t.result = 'opened') AS opens_alike,
			(SELECT count(DISTINCT device_id) FROM tries t WHERE t.sign_in_id = s.id AND t.likeness = $5 AND t.purpose = $4
				AND t.result IN ('refused', 'pending')) AS refused_alike,
			EXISTS (SELECT 1 FROM tries t WHERE t.device_id = $1 AND t.sign_in_id = s.id AND t.purpose = $4 AND t.result = 'refused'
				AND t.at > s.changed_at
				AND NOT EXISTS (SELECT 1 FROM tries o WHERE o.device_id = $1 AND o.sign_in_id = s.id AND o.purpose = $4
					AND o.result = 'opened' AND o.at > t.at)) AS refused_here
			FROM sign_ins s
			WHERE (s.site_id IS NULL OR s.site_id = $2) AND (NOT s.bound OR EXISTS (SELECT 1 FROM sign_in_devices l
				WHERE l.sign_in_id = s.id AND l.device_id = $1)) AND s.purpose IN ('', $4) AND (s.maker = '' OR strpos(lower($3), lower(s.maker)) > 0)
			) c
		WHERE $6 OR NOT refused_here
		ORDER BY opened_at DESC NULLS LAST, refused_here, NOT bound, maker = '', site IS NULL, opens_alike DESC, refused_alike,
			opens DESC, position, created_at, id`, device, site, known.Words, purpose, known.Kind, again)
	for i := range out {
		k := &out[i]
		k.Turn = signin.Turn{Opened: k.Opened != nil, Bound: k.Bound, Maker: k.Maker, Site: k.Site != nil, OpensAlike: k.OpensAlike,
			Opens: k.Opens}
	}
	return out, err
}
