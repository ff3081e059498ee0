package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"

	"unlatch/core/decide/act"
	"unlatch/core/decide/handover"
	"unlatch/core/ground/signin"
)

// Handovers are the versions of handover packs with their files, and what stands around them: waivers, attestations and checklists.
type Handovers struct{ *database }

// A HandoverVersion is a version of a site's pack.
type HandoverVersion struct {
	ID       uuid.UUID             `json:"id"`
	Number   int                   `json:"number"`
	By       string                `json:"by"`
	At       time.Time             `json:"at"`
	Failed   string                `json:"failed,omitempty" doc:"why it could not be made"`
	Made     bool                  `json:"made" doc:"all its files are there"`
	Hash     string                `json:"hash,omitempty" doc:"of its manifest, as the record has it"`
	Language string                `json:"language"`
	Sealed   *handover.SealedTo    `json:"sealed,omitempty"`
	Baseline *handover.AgreedState `json:"baseline,omitempty"`
	Files    []handover.FileEntry  `json:"files"`
	SignOff  *SignOffView          `json:"sign_off,omitempty"`
}

// SignOffView says who has signed a version.
type SignOffView struct {
	Name string    `json:"name"`
	At   time.Time `json:"at"`
}

type handoverRow struct {
	ID       uuid.UUID                 `db:"id"`
	Site     uuid.UUID                 `db:"site_id"`
	Number   int                       `db:"number"`
	By       string                    `db:"made_by"`
	Person   uuid.NullUUID             `db:"person_id"`
	At       time.Time                 `db:"made_at"`
	Form     jsonb[act.HandoverForm]   `db:"form"`
	Failed   string                    `db:"failed"`
	Manifest *jsonb[handover.Manifest] `db:"manifest"`
	SignOff  []byte                    `db:"sign_off"`
}

const handoverColumns = `h.id, h.site_id, h.number, h.made_by, h.person_id, h.made_at, h.form, h.failed, h.manifest,
	(SELECT body FROM sign_offs o WHERE o.handover_id = h.id) AS sign_off`

func (r handoverRow) version() HandoverVersion {
	v := HandoverVersion{ID: r.ID, Number: r.Number, By: r.By, At: r.At, Failed: r.Failed, Language: r.Form.V.Language,
		Files: []handover.FileEntry{}}
	if m := r.Manifest; m != nil {
		v.Made, v.Hash, v.Sealed, v.Baseline, v.Files = true, m.V.Hash, m.V.Sealed, m.V.Baseline, m.V.Files
	}
	if s := new(handover.SignOff); json.Unmarshal(r.SignOff, s) == nil && s.Name != "" {
		v.SignOff = &SignOffView{s.Name, s.At}
	}
	return v
}

// List lists the versions of a site's pack, the newest first.
func (s Handovers) List(ctx context.Context, site uuid.UUID) ([]HandoverVersion, error) {
	var rows []handoverRow
	err := s.on(ctx).SelectContext(ctx, &rows, "SELECT "+handoverColumns+" FROM handovers h WHERE h.site_id = $1 ORDER BY h.number DESC", site)
	out := make([]HandoverVersion, len(rows))
	for i, r := range rows {
		out[i] = r.version()
	}
	return out, err
}

// Get returns a version of a site's pack.
func (s Handovers) Get(ctx context.Context, site, id uuid.UUID) (HandoverVersion, error) {
	var r handoverRow
	err := notFoundIfNone(s.on(ctx).GetContext(ctx, &r, "SELECT "+handoverColumns+" FROM handovers h WHERE h.site_id = $1 AND h.id = $2",
		site, id))
	return r.version(), err
}

// A HandoverTask is a version that is to be made.
type HandoverTask struct {
	ID     uuid.UUID
	Site   uuid.UUID
	Number int
	By     string
	Person uuid.UUID // the nil UUID where the account is gone
	At     time.Time
	Made   bool
	act.HandoverForm
}

// Task returns what a version is to be made of.
func (s Handovers) Task(ctx context.Context, id uuid.UUID) (HandoverTask, error) {
	var r handoverRow
	err := notFoundIfNone(s.on(ctx).GetContext(ctx, &r, "SELECT "+handoverColumns+" FROM handovers h WHERE h.id = $1", id))
	return HandoverTask{ID: r.ID, Site: r.Site, Number: r.Number, By: r.By, Person: r.Person.UUID, At: r.At, Made: r.Manifest != nil,
		HandoverForm: r.Form.V}, err
}

// Passphrase returns the passphrase that a version is to be sealed to; an empty one for none.
func (s Handovers) Passphrase(ctx context.Context, id uuid.UUID) (signin.Secret, error) {
	var sealed []byte
	if err := s.on(ctx).GetContext(ctx, &sealed, "SELECT passphrase FROM handovers WHERE id = $1", id); err != nil || sealed == nil {
		return signin.Secret{}, notFoundIfNone(err)
	}
	text, err := s.cipher.Decrypt(sealed, id.String())
	return signin.NewSecret(text), err
}

// Begin keeps a version that is to be made. Its number follows that of the one before, also where two are begun at once.
func (s Handovers) Begin(ctx context.Context, by act.Person, a act.MakeHandover) error {
	var sealed []byte
	if !a.Passphrase.Empty() {
		sealed = s.cipher.Encrypt(a.Passphrase.Reveal(), a.ID.String())
	}
	// Whoever begins another waits here: the act holds the site.
	_, err := s.on(ctx).ExecContext(ctx, `INSERT INTO handovers (id, site_id, number, made_by, person_id, form, passphrase)
		SELECT $1, $2, COALESCE(max(number), 0) + 1, $3, $4, $5, $6 FROM handovers WHERE site_id = $2`, a.ID, a.Site, by.Name, orNull(by.ID),
		JSON(a.HandoverForm), sealed)
	return err
}

// Anew forgets the files of a version that was not made whole.
func (s Handovers) Anew(ctx context.Context, id uuid.UUID) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if _, err := fenced(ctx, tx); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `DELETE FROM handover_files f USING handovers h WHERE f.handover_id = h.id AND h.id = $1
			AND h.manifest IS NULL`, id)
		return err
	})
}

// PutFiles keeps files of a version that is being made, all of them or none.
func (s Handovers) PutFiles(ctx context.Context, id uuid.UUID, files ...handover.File) error {
	var paths, types []string
	var data [][]byte
	for _, f := range files {
		paths, types, data = append(paths, f.Path), append(types, f.Type), append(data, f.Data)
	}
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if _, err := fenced(ctx, tx); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `INSERT INTO handover_files (handover_id, path, type, data)
			SELECT $1, p, t, d FROM unnest($2::text[], $3::text[], $4::bytea[]) f(p, t, d)`, id, paths, types, data)
		return err
	})
}

// Complete keeps the manifest of a version: from then on nothing of it is changed.
func (s Handovers) Complete(ctx context.Context, a act.HandoverMade) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if err := touchedOne(tx.ExecContext(ctx, "UPDATE handovers SET manifest = $2, hash = $3, passphrase = NULL, failed = '' "+
			"WHERE id = $1 AND manifest IS NULL", a.ID, JSON(a.Manifest), a.Manifest.Hash)); err != nil {
			return err
		}
		return s.notify(ctx, tx, Event{Site: a.Site, What: "handover", ID: a.ID})
	})
}

// Fail says why a version could not be made, and lets its files go.
func (s Handovers) Fail(ctx context.Context, site, id uuid.UUID, why string) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if err := s.Anew(ctx, id); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, "UPDATE handovers SET failed = $2, passphrase = NULL WHERE id = $1 AND manifest IS NULL", id,
			noNUL(why)); err != nil {
			return err
		}
		return s.notify(ctx, tx, Event{Site: site, What: "handover", ID: id})
	})
}

// File returns a file of a version that was made, the manifest and the sign-off among them.
func (s Handovers) File(ctx context.Context, site, id uuid.UUID, path string) (f handover.File, err error) {
	if path == handover.SignOffFile {
		f = handover.File{Path: path, Type: "application/json"}
		err = s.on(ctx).GetContext(ctx, &f.Data, `SELECT o.body FROM sign_offs o JOIN handovers h ON h.id = o.handover_id
			WHERE h.site_id = $1 AND h.id = $2`, site, id)
		return f, notFoundIfNone(err)
	}
	var row struct {
		Path string `db:"path"`
		Type string `db:"type"`
		Data []byte `db:"data"`
	}
	err = s.on(ctx).GetContext(ctx, &row, `SELECT f.path, f.type, f.data FROM handover_files f JOIN handovers h ON h.id = f.handover_id
		WHERE h.site_id = $1 AND h.id = $2 AND f.path = $3 AND h.manifest IS NOT NULL`, site, id, path)
	return handover.File{Path: row.Path, Type: row.Type, Data: row.Data}, notFoundIfNone(err)
}

// Pack returns what a version knew of the site.
func (s Handovers) Pack(ctx context.Context, site, id uuid.UUID) (handover.Pack, error) {
	f, err := s.File(ctx, site, id, handover.DataFile)
	if err != nil {
		return handover.Pack{}, err
	}
	return handover.ReadPack(f.Data)
}

// Sign keeps a sign-off. A version that was signed is not signed again: its error is an *act.Refusal.
func (s Handovers) Sign(ctx context.Context, by act.Person, a act.SignHandover) error {
	raw, err := a.SignOff.Write()
	if err != nil {
		return err
	}
	_, err = s.on(ctx).ExecContext(ctx, "INSERT INTO sign_offs (handover_id, person_id, body) VALUES ($1, $2, $3)", a.Version, orNull(by.ID),
		raw)
	if errors.Is(takenIfDouble(err), ErrTaken) {
		return &act.Refusal{Cause: "signed_already", Detail: "This version is signed already.", Fix: "Look at who has signed it."}
	}
	if err != nil {
		return err
	}
	return s.notify(ctx, s.on(ctx), Event{Site: a.Site, What: "handover", ID: a.Version})
}

// Head returns how far the record goes, and the hash of its newest line.
func (s Record) Head(ctx context.Context) (handover.Record, error) {
	var row struct {
		Number int64  `db:"number"`
		Hash   []byte `db:"hash"`
	}
	err := s.on(ctx).GetContext(ctx, &row, "SELECT number, hash FROM record_head")
	if errors.Is(err, sql.ErrNoRows) {
		err = nil
	}
	return handover.Record{Number: row.Number, Hash: fmt.Sprintf("%x", row.Hash)}, err
}

// Snapshot runs fn with a context whose reads all see the database as it is at one moment.
func (s *Store) Snapshot(ctx context.Context, fn func(context.Context) error) error {
	tx, err := s.db.BeginTxx(ctx, &sql.TxOptions{Isolation: sql.LevelRepeatableRead, ReadOnly: true})
	if err != nil {
		return err
	}
	defer tx.Rollback()
	return fn(context.WithValue(ctx, txKey{}, tx))
}
