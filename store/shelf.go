package store

import (
	"context"
	"time"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"

	"unlatch/core/decide/act"
	"unlatch/core/stream/intake"
)

// Shelf holds the books of presets and of intakes that people brought, as they wrote them.
type Shelf struct{ *database }

// A BookFile is one book.
type BookFile struct {
	ID      uuid.UUID `db:"id"`
	Name    string    `db:"name"`
	YAML    string    `db:"yaml"`
	Created time.Time `db:"created_at"`
}

// List lists the books of a kind, the oldest first.
func (s Shelf) List(ctx context.Context, kind act.BookKind) (out []BookFile, err error) {
	return out, s.on(ctx).SelectContext(ctx, &out,
		"SELECT id, name, yaml, created_at FROM books WHERE kind = $1 ORDER BY created_at, id", kind)
}

// Put keeps a book and replaces the one of the same name. Devices whose state depends on intakes are derived anew.
func (s Shelf) Put(ctx context.Context, kind act.BookKind, name, yaml string) (id uuid.UUID, err error) {
	return id, s.changed(ctx, kind, func(tx *sqlx.Tx) error {
		return tx.GetContext(ctx, &id, `INSERT INTO books (id, kind, name, yaml) VALUES ($1, $2, $3, $4)
			ON CONFLICT (kind, name) DO UPDATE SET yaml = excluded.yaml RETURNING id`, newID(), kind, name, yaml)
	})
}

// Delete takes a book off.
func (s Shelf) Delete(ctx context.Context, kind act.BookKind, id uuid.UUID) error {
	return s.changed(ctx, kind, func(tx *sqlx.Tx) error {
		return touchedOne(tx.ExecContext(ctx, "DELETE FROM books WHERE kind = $1 AND id = $2", kind, id))
	})
}

func (s Shelf) changed(ctx context.Context, kind act.BookKind, change func(*sqlx.Tx) error) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if err := change(tx); err != nil || kind != act.IntakeBooks {
			return err
		}
		var sites []uuid.UUID
		if err := tx.SelectContext(ctx, &sites, "SELECT DISTINCT site_id FROM targets WHERE intake <> ''"); err != nil {
			return err
		}
		for _, site := range sites {
			if err := s.siteChanged(ctx, tx, site); err != nil {
				return err
			}
		}
		return nil
	})
}

// Intakes returns all intakes: people's own first, then those of the product. One of a name goes before another of it.
func (s Shelf) Intakes(ctx context.Context) ([]*intake.Book, error) {
	files, err := s.List(ctx, act.IntakeBooks)
	if err != nil {
		return nil, err
	}
	var out []*intake.Book
	for _, f := range files {
		b, err := intake.ReadBook([]byte(f.YAML))
		if err != nil {
			return nil, err
		}
		out = append(out, b)
	}
	return append(out, intake.Shipped()), nil
}

// Intake finds an intake by its name; nil where there is none.
func (s Shelf) Intake(ctx context.Context, name string) (*intake.Intake, error) {
	books, err := s.Intakes(ctx)
	for _, b := range books {
		if x, ok := b.Find(name); ok {
			return &x, err
		}
	}
	return nil, err
}
