package store

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"

	"unlatch/core/stream/recipe"
)

// Books are the path books.
type Books struct{ *database }

// LearnedBook is the path book that recipes go to which were learned and proven here.
const LearnedBook = "Learned here"

// A PathBook is a book of one's own.
type PathBook struct {
	ID      uuid.UUID    `db:"id"`
	Name    string       `db:"name"`
	YAML    string       `db:"yaml"`
	Created time.Time    `db:"created_at"`
	Book    *recipe.Book `db:"-"`
}

// List lists the books that were brought or learned, oldest first.
func (s Books) List(ctx context.Context) ([]PathBook, error) {
	var out []PathBook
	if err := s.on(ctx).SelectContext(ctx, &out, "SELECT id, name, yaml, created_at FROM path_books ORDER BY created_at, id"); err != nil {
		return nil, err
	}
	for i := range out {
		b, err := recipe.ReadBook([]byte(out[i].YAML))
		if err != nil {
			return nil, err
		}
		out[i].Book = b
	}
	return out, nil
}

// All returns all path books in the order in which they are asked: people's own, then those of the product.
func (s Books) All(ctx context.Context) ([]*recipe.Book, error) {
	own, err := s.List(ctx)
	var out []*recipe.Book
	for _, b := range own {
		out = append(out, b.Book)
	}
	return append(out, recipe.Shipped()...), err
}

// Merge adds a book's recipes to the book of its name, which is made where there is none. Ours stays where two recipes of one name
// differ.
func (s Books) Merge(ctx context.Context, b *recipe.Book) (added []recipe.Recipe, conflicts []recipe.Conflict, err error) {
	err = s.tx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, "LOCK TABLE path_books IN EXCLUSIVE MODE"); err != nil {
			return err
		}
		var row PathBook
		err := tx.GetContext(ctx, &row, "SELECT id, name, yaml, created_at FROM path_books WHERE name = $1", b.Name)
		into := &recipe.Book{Name: b.Name, Note: b.Note}
		switch {
		case errors.Is(err, sql.ErrNoRows):
			row.ID = newID()
		case err != nil:
			return err
		default:
			if into, err = recipe.ReadBook([]byte(row.YAML)); err != nil {
				return err
			}
		}
		added, conflicts = into.Merge(b)
		raw, err := into.Write()
		if err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, "INSERT INTO path_books (id, name, yaml) VALUES ($1, $2, $3) ON CONFLICT (name) DO UPDATE SET yaml = "+
			"$3", row.ID, b.Name, string(raw))
		return err
	})
	return added, conflicts, err
}

// Delete removes a book of one's own.
func (s Books) Delete(ctx context.Context, id uuid.UUID) error {
	return touchedOne(s.on(ctx).ExecContext(ctx, "DELETE FROM path_books WHERE id = $1", id))
}
