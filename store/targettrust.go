package store

import (
	"context"
	"encoding/json"
	"time"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"

	"unlatch/core/decide/act"
	"unlatch/core/ground/trouble"
	"unlatch/core/wire/target"
)

// A TargetAgreement records that a person lets a secret go to a target although others may read it on the way.
type TargetAgreement struct {
	Target uuid.UUID               `db:"target_id"`
	Secret target.Secret           `db:"secret"`
	To     *jsonb[target.Identity] `db:"identity"` // nil while nobody has answered there since
	Person string                  `db:"person"`
	Given  time.Time               `db:"given_at"`
}

// Agreement is it as core decides by it.
func (a TargetAgreement) Agreement() target.Agreement {
	out := target.Agreement{Secret: a.Secret}
	if a.To != nil {
		out.To = &a.To.V
	}
	return out
}

// Agree records that secrets may go to a target so that they can be read. What was agreed before for the same secrets ends.
func (s Targets) Agree(ctx context.Context, by act.Person, x act.Agreed) error {
	var identity *string
	if x.To != nil {
		raw, err := json.Marshal(x.To)
		if err != nil {
			return err
		}
		text := string(raw)
		identity = &text
	}
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		for _, secret := range x.Secrets {
			if _, err := tx.ExecContext(ctx, "UPDATE target_agreements SET ended_at = now(), ended_why = 'agreed anew' "+
				"WHERE target_id = $1 AND secret = $2 AND ended_at IS NULL", x.Target, secret); err != nil {
				return err
			}
			if _, err := tx.ExecContext(ctx, `INSERT INTO target_agreements (id, target_id, secret, identity, person_id, person)
				VALUES ($1, $2, $3, $4, NULLIF($5, '00000000-0000-0000-0000-000000000000'::uuid), $6)`, newID(), x.Target, secret, identity, by.ID,
				by.Name); err != nil {
				return err
			}
		}
		return s.targetChanged(ctx, tx, x.Target)
	})
}

// targetChanged tells readers that a target of some site has changed.
func (s Targets) targetChanged(ctx context.Context, tx *sqlx.Tx, id uuid.UUID) error {
	var site uuid.UUID
	if err := tx.GetContext(ctx, &site, "SELECT site_id FROM targets WHERE id = $1", id); err != nil {
		return notFoundIfNone(err)
	}
	return s.siteChanged(ctx, tx, site)
}

// Disagree ends what was agreed for a target; one secret, or all for "". A certificate that was taken because of it stays.
func (s Targets) Disagree(ctx context.Context, id uuid.UUID, secret target.Secret) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, "UPDATE target_agreements SET ended_at = now(), ended_why = 'taken back' "+
			"WHERE target_id = $1 AND ($2 = '' OR secret = $2) AND ended_at IS NULL", id, secret); err != nil {
			return err
		}
		// A target that has read its sign-in already is asked about again, too.
		if _, err := tx.ExecContext(ctx, "UPDATE targets SET opened_under = '', opened_with = NULL WHERE id = $1", id); err != nil {
			return err
		}
		return s.targetChanged(ctx, tx, id)
	})
}

// Bind binds what was agreed to for whoever answers first to who has answered.
func (s Targets) Bind(ctx context.Context, id uuid.UUID, secret target.Secret, to target.Identity) error {
	raw, err := json.Marshal(to)
	if err != nil {
		return err
	}
	_, err = s.on(ctx).ExecContext(ctx,
		"UPDATE target_agreements SET identity = $3 WHERE target_id = $1 AND secret = $2 AND ended_at IS NULL "+
			"AND identity IS NULL", id, secret, string(raw))
	return err
}

// Agreements lists what holds for targets.
func (s Targets) Agreements(ctx context.Context, ids ...uuid.UUID) (out []TargetAgreement, err error) {
	return out, s.on(ctx).SelectContext(ctx, &out, "SELECT target_id, secret, identity, person, given_at FROM target_agreements "+
		"WHERE target_id = ANY($1) AND ended_at IS NULL ORDER BY given_at, id", ids)
}

// Wants returns what was not sent to targets because nobody has agreed, by the last that they were asked.
func (s Targets) Wants(ctx context.Context, ids []uuid.UUID) (map[uuid.UUID]trouble.Wanted, error) {
	var rows []struct {
		Target uuid.UUID              `db:"target_id"`
		Wanted *jsonb[trouble.Wanted] `db:"wanted"`
	}
	err := s.on(ctx).SelectContext(ctx, &rows, `SELECT t.id AS target_id, l.wanted FROM targets t CROSS JOIN LATERAL
		(SELECT diagnosis -> 'wanted' AS wanted FROM target_seen WHERE target_id = t.id ORDER BY at DESC, id DESC LIMIT 1) l
		WHERE t.id = ANY($1) AND l.wanted IS NOT NULL`, ids)
	out := map[uuid.UUID]trouble.Wanted{}
	for _, r := range rows {
		if r.Wanted != nil {
			out[r.Target] = r.Wanted.V
		}
	}
	return out, err
}

// TakeCertificate records that a person has looked at the certificate that a target is known by, or at another that it shows now, and has
// taken it.
func (s Targets) TakeCertificate(ctx context.Context, id uuid.UUID, sha256 string) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if err := touchedOne(tx.ExecContext(ctx, "UPDATE targets SET pin = $2, pin_taken = true WHERE id = $1", id, sha256)); err != nil {
			return err
		}
		return s.targetChanged(ctx, tx, id)
	})
}

// Trust returns what a person has said of a target and what it has shown, as core decides by it.
func (s Targets) Trust(ctx context.Context, t Target) (out target.Trust, err error) {
	list, err := s.Agreements(ctx, t.ID)
	for _, a := range list {
		out.Agreements = append(out.Agreements, a.Agreement())
	}
	if t.PinTaken && t.Pin != "" {
		out.Certificates = append(out.Certificates, t.Pin)
	}
	if t.OpenedUnder != "" && t.OpenedWith != nil && t.SignIn != nil && *t.OpenedWith == *t.SignIn {
		out.Certificates = append(out.Certificates, t.OpenedUnder)
	}
	return out, err
}

// Handed returns the sign-ins that a target was given for its cameras.
func (s Targets) Handed(ctx context.Context, id uuid.UUID) (out []uuid.UUID, err error) {
	return out, s.on(ctx).SelectContext(ctx, &out, `SELECT DISTINCT s.id FROM evidence e JOIN sign_ins s ON s.id::text = e.body ->> 'sign_in'
		WHERE e.kind = 'placed' AND e.subject = $1`, id.String())
}

// anotherOne ends what was agreed for a target that now says it is another one.
func (s Targets) anotherOne(ctx context.Context, tx *sqlx.Tx, id uuid.UUID, before, now target.About) error {
	who := func(a target.About) [4]string { return [4]string{a.Kind, a.Maker, a.Model, a.Serial} }
	if who(before) == who(now) {
		return nil
	}
	_, err := tx.ExecContext(ctx, "UPDATE target_agreements SET ended_at = now(), ended_why = 'another one answers there' "+
		"WHERE target_id = $1 AND ended_at IS NULL AND identity IS NOT NULL", id)
	return err
}
