package store

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"database/sql"
	"errors"
	"fmt"
	"os"
	"syscall"
	"time"

	"github.com/google/uuid"
	"golang.org/x/crypto/chacha20poly1305"

	"unlatch/core/decide/act"
)

// encrypted are the columns that hold what the key file encrypts, each with what identifies a row, what its value is bound to, and which
// rows those are. What data keys encrypt stays as it is: they are encrypted anew themselves.
var encrypted = []struct{ table, id, column, owner, where string }{
	{"data_keys", "id", "sealed", "'data key ' || id", "true"},
	{"paired_workers", "id", "sealed", "'worker ' || id", "true"},
	{"sign_ins", "id", "sealed", "id::text", "key_id IS NULL"},
	{"tell_rules", "id", "sealed", "id::text", "true"},
	{"handovers", "id", "passphrase", "id::text", "true"},
	{"targets", "id", "feed_sealed", "'feed ' || id", "true"},
	{"factors", "id", "secret", "'factor ' || id", "true"},
	{"ceremonies", "hash", "state", "'ceremony ' || purpose", "true"},
	{"relays", "id", "sealed", "'relay ' || id", "key_id IS NULL"},
	{"relays", "id", "sealed_key", "'stream key ' || id", "key_id IS NULL"},
}

// A Rotation says how the key of a database is given up for another.
type Rotation struct {
	// Settle is how long to wait for writes that were encrypted with the old key before it is dropped; 0 means 5 s.
	Settle time.Duration
	// Step is called before each step, which may be the last that this process does; nil for nothing.
	Step func()
	// Progress is told how many values were encrypted anew; nil for nobody.
	Progress func(done int)
}

// rotating is the lock under which one process at a time rotates the key.
var rotating = uuid.MustParse("c3a0a3d1-0f57-4e25-9f2b-2c3a2a6d7d55")

// rotationRow is the setting that names the new key while the key is rotated, by its SHA-256.
const rotationRow = "key_rotation"

// ErrRotating means that another process rotates the key at this moment.
var ErrRotating = errors.New("the key is being rotated by another process at the moment")

// PrepareKey adds a new key to a key file, which encrypts nothing yet: copied to workers elsewhere, it opens for them what the next
// rotation encrypts. It changes nothing where the file holds two keys already.
func PrepareKey(path string) error {
	keys, err := readKeys(path)
	if err != nil || len(keys) == 2 {
		return err
	}
	return writeKeys(path, keys[0], newKey())
}

func newKey() []byte {
	key := make([]byte, chacha20poly1305.KeySize)
	rand.Read(key)
	return key
}

// writeKeys puts a key file in the place of the old one as a whole, with its owner.
func writeKeys(path string, keys ...[]byte) error {
	info, err := os.Stat(path)
	if err != nil {
		return err
	}
	part := path + ".part"
	f, err := os.OpenFile(part, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	defer os.Remove(part)
	_, err = f.Write(bytes.Join(keys, nil))
	if sys, ok := info.Sys().(*syscall.Stat_t); ok && err == nil && os.Geteuid() == 0 {
		err = f.Chown(int(sys.Uid), int(sys.Gid))
	}
	if err := errors.Join(err, f.Sync(), f.Close()); err != nil {
		return err
	}
	return os.Rename(part, path)
}

// RotateKey gives the database another key, and returns how many values were encrypted anew. Processes that share the key file take it up
// by themselves, and nothing stops meanwhile. Cut off at any moment, another call goes on where it was.
func (s *Store) RotateKey(ctx context.Context, r Rotation) (done int, err error) {
	free, err := s.TryLocked(ctx, rotating, func(ctx context.Context) error {
		done, err = s.rotate(ctx, r)
		return err
	})
	if err == nil && !free {
		err = ErrRotating
	}
	return done, err
}

func (s *Store) rotate(ctx context.Context, r Rotation) (done int, err error) {
	step := func() {
		if r.Step != nil {
			r.Step()
		}
	}
	if r.Settle == 0 {
		r.Settle = 5 * time.Second
	}
	if err := s.beginRotation(ctx, step); err != nil {
		return 0, err
	}
	for settled := false; ; {
		n, err := s.encryptAnew(ctx, step, func(n int) {
			if r.Progress != nil {
				r.Progress(done + n)
			}
		})
		if done += n; err != nil {
			return done, err
		}
		if n == 0 && settled {
			break
		}
		// What was encrypted with the old key before the file changed may be written only now.
		settled = n == 0
		select {
		case <-ctx.Done():
			return done, ctx.Err()
		case <-time.After(r.Settle):
		}
	}
	step()
	return done, s.endRotation(ctx, step)
}

// beginRotation puts the new key first in the key file, with the old one behind it. A key file that was prepared has the new one already.
func (s *Store) beginRotation(ctx context.Context, step func()) error {
	keys, err := readKeys(s.cipher.path)
	if err != nil {
		return err
	}
	var begun []byte
	if err := s.on(ctx).GetContext(ctx, &begun, "SELECT value FROM settings WHERE name = $1", rotationRow); err != nil &&
		!errors.Is(err, sql.ErrNoRows) {
		return err
	}
	if len(keys) == 2 && bytes.Equal(begun, hashOfKey(keys[0])) {
		return nil // it goes on
	}
	next := newKey()
	if len(keys) == 2 {
		next = keys[1]
	}
	if _, err := s.on(ctx).ExecContext(ctx, "INSERT INTO settings (name, value) VALUES ($1, $2) ON CONFLICT (name) DO UPDATE "+
		"SET value = excluded.value", rotationRow, hashOfKey(next)); err != nil {
		return err
	}
	step()
	return writeKeys(s.cipher.path, next, keys[0])
}

func hashOfKey(key []byte) []byte {
	sum := sha256.Sum256(key)
	return sum[:]
}

// encryptAnew encrypts with the first key whatever another one opens, and returns how much that was.
func (s *Store) encryptAnew(ctx context.Context, step func(), progress func(int)) (done int, err error) {
	for _, c := range encrypted {
		var rows []struct {
			ID    []byte `db:"id"`
			Owner string `db:"owner"`
			Value []byte `db:"value"`
		}
		if err := s.on(ctx).SelectContext(ctx, &rows, fmt.Sprintf("SELECT convert_to(%s::text, 'UTF8') AS id, %s AS owner, %s AS value FROM %s "+
			"WHERE length(%[3]s) > 0 AND %[5]s", c.id, c.owner, c.column, c.table, c.where)); err != nil {
			return done, err
		}
		for _, row := range rows {
			text, current, err := s.cipher.decrypt(row.Value, row.Owner)
			if err != nil {
				return done, fmt.Errorf("a value in %s: %w; nothing was lost, and the old key is kept", c.table, err)
			}
			if current {
				continue
			}
			step()
			// Whoever has changed it meanwhile has encrypted it with the new key.
			res, err := s.on(ctx).ExecContext(ctx, fmt.Sprintf("UPDATE %s SET %s = $3 WHERE convert_to(%s::text, 'UTF8') = $1 AND %[2]s = $2",
				c.table, c.column, c.id), row.ID, row.Value, s.cipher.Encrypt(text, row.Owner))
			if err != nil {
				return done, err
			}
			if n, err := res.RowsAffected(); err == nil && n > 0 {
				done++
				progress(done)
			}
		}
	}
	return done, nil
}

// endRotation has the key check be of the new key, and drops the old one.
func (s *Store) endRotation(ctx context.Context, step func()) error {
	acts := s.Acts()
	if err := acts.Together(ctx, func(ctx context.Context) error {
		if _, err := s.on(ctx).ExecContext(ctx, "UPDATE settings SET value = $1 WHERE name = 'key_check'",
			s.cipher.Encrypt(keyCheck, keyCheck)); err != nil {
			return err
		}
		return acts.Write(ctx, act.Person{Name: "the machine"}, act.About{Name: "rotate-key"}, act.Line{})
	}); err != nil {
		return err
	}
	step()
	keys, err := readKeys(s.cipher.path)
	if err != nil {
		return err
	}
	if err := writeKeys(s.cipher.path, keys[0]); err != nil {
		return err
	}
	step()
	_, err = s.on(ctx).ExecContext(ctx, "DELETE FROM settings WHERE name = $1", rotationRow)
	return err
}
