package store

import (
	"context"
	"crypto/cipher"
	"encoding/hex"
	"errors"
	"fmt"
	"sync"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"
	"golang.org/x/crypto/chacha20poly1305"

	"unlatch/core/ground/sealed"
	"unlatch/core/ground/signin"
)

// A Far is a worker elsewhere, as its own store knows it. It has no key file: it opens what is encrypted with the data keys of its sites,
// which are wrapped for it.
type Far struct {
	Worker uuid.UUID
	// Unwrap is the secret key (age, X25519) that its data keys are wrapped for.
	Unwrap signin.Secret
}

// dataKeys are the data keys that this process has read. Each site has one, and those sign-ins that are for every site have one: who holds
// the key of a site opens what is of that site and no more. It is safe for concurrent use.
type dataKeys struct {
	mu    sync.Mutex
	known map[uuid.UUID]cipher.AEAD
}

// A LockedError means that what is encrypted cannot be read here, because its data key was not wrapped for this worker.
type LockedError struct{ Key uuid.UUID }

func (e *LockedError) Error() string {
	return "this worker holds no key for it: sign-ins that are for every site are opened by workers alone that were paired with leave for that"
}

// dataKeyOwner is what a data key is bound to where it is encrypted by the key file.
func dataKeyOwner(id uuid.UUID) string { return "data key " + id.String() }

// dataKey returns a data key by its ID. Its error is a *LockedError where this worker was not given it.
func (s *database) dataKey(ctx context.Context, id uuid.UUID) (cipher.AEAD, error) {
	s.keys.mu.Lock()
	key := s.keys.known[id]
	s.keys.mu.Unlock()
	if key != nil {
		return key, nil
	}
	raw, err := s.readDataKey(ctx, id)
	if err != nil {
		return nil, err
	}
	if key, err = chacha20poly1305.NewX(raw); err != nil {
		return nil, fmt.Errorf("a data key is damaged: %w", err)
	}
	s.keys.mu.Lock()
	defer s.keys.mu.Unlock()
	if s.keys.known == nil {
		s.keys.known = map[uuid.UUID]cipher.AEAD{}
	}
	s.keys.known[id] = key
	return key, nil
}

// readDataKey reads a data key: the server opens it by the key file, a worker elsewhere by its own key.
func (s *database) readDataKey(ctx context.Context, id uuid.UUID) ([]byte, error) {
	var raw []byte
	if s.far != nil {
		err := notFoundIfNone(s.on(ctx).GetContext(ctx, &raw, "SELECT wrapped FROM wrapped_keys WHERE key_id = $1", id))
		if errors.Is(err, ErrNotFound) {
			return nil, &LockedError{id}
		}
		if err != nil {
			return nil, err
		}
		return sealed.Open(raw, s.far.Unwrap, chacha20poly1305.KeySize)
	}
	if err := s.on(ctx).GetContext(ctx, &raw, "SELECT sealed FROM data_keys WHERE id = $1", id); err != nil {
		return nil, notFoundIfNone(err)
	}
	text, err := s.cipher.Decrypt(raw, dataKeyOwner(id))
	if err != nil {
		return nil, err
	}
	return hex.DecodeString(text)
}

// decryptBy decrypts a value with a data key, or with the key file where key is nil.
func (s *database) decryptBy(ctx context.Context, key *uuid.UUID, value []byte, owner string) (string, error) {
	if key == nil {
		if s.cipher == nil {
			return "", &LockedError{}
		}
		return s.cipher.Decrypt(value, owner)
	}
	aead, err := s.dataKey(ctx, *key)
	if err != nil {
		return "", err
	}
	return decryptWith(aead, value, owner)
}

// A siteCipher encrypts what is of one site.
type siteCipher struct {
	Key  uuid.UUID
	aead cipher.AEAD
}

// Encrypt encrypts text, bound to what it belongs to.
func (c siteCipher) Encrypt(text, owner string) []byte { return encryptWith(c.aead, text, owner) }

// cipherOf returns what encrypts for a site, or for every site where that is nil. The data key is made where there is none yet, wrapped for
// the paired workers of the site, and stays the same until tx ends.
func (s *database) cipherOf(ctx context.Context, tx *sqlx.Tx, site *uuid.UUID) (c siteCipher, err error) {
	for {
		err := tx.GetContext(ctx, &c.Key, "SELECT id FROM data_keys WHERE site_id IS NOT DISTINCT FROM $1 FOR KEY SHARE", site)
		if err = notFoundIfNone(err); err == nil {
			c.aead, err = s.dataKey(context.WithValue(ctx, txKey{}, tx), c.Key)
			return c, err
		}
		if !errors.Is(err, ErrNotFound) {
			return c, err
		}
		id, raw := newID(), newKey()
		res, err := tx.ExecContext(ctx, "INSERT INTO data_keys (id, site_id, sealed) VALUES ($1, $2, $3) ON CONFLICT DO NOTHING", id, site,
			s.cipher.Encrypt(hex.EncodeToString(raw), dataKeyOwner(id)))
		if err := touchedOne(res, err); errors.Is(err, ErrNotFound) {
			continue // another process has made one at the same moment
		} else if err != nil {
			return c, err
		}
		if err := wrapForWorkers(ctx, tx, id, raw); err != nil {
			return c, err
		}
	}
}

// holdsKey is the SQL condition that a paired worker w may hold a data key k: the key of one of its sites, or, if it was allowed, the one
// for every site.
const holdsKey = `CASE WHEN k.site_id IS NULL THEN w.shared
	ELSE EXISTS (SELECT 1 FROM paired_sites p WHERE p.worker_id = w.id AND p.site_id = k.site_id) END`

// wrapForWorkers wraps a data key for the paired workers that are to hold it.
func wrapForWorkers(ctx context.Context, tx *sqlx.Tx, key uuid.UUID, raw []byte) error {
	var workers []struct {
		ID        uuid.UUID `db:"id"`
		Recipient string    `db:"recipient"`
	}
	if err := tx.SelectContext(ctx, &workers, `SELECT w.id, w.recipient FROM paired_workers w, data_keys k
		WHERE k.id = $1 AND w.revoked_at IS NULL AND w.recipient <> '' AND `+holdsKey, key); err != nil {
		return err
	}
	for _, w := range workers {
		if err := wrap(ctx, tx, key, w.ID, w.Recipient, raw); err != nil {
			return err
		}
	}
	return nil
}

// wrap wraps a data key for one worker.
func wrap(ctx context.Context, tx *sqlx.Tx, key, worker uuid.UUID, recipient string, raw []byte) error {
	wrapped, _, err := sealed.Seal(raw, recipient, signin.Secret{})
	if err != nil {
		return err
	}
	_, err = tx.ExecContext(ctx, "INSERT INTO wrapped_keys (key_id, worker_id, wrapped) VALUES ($1, $2, $3) ON CONFLICT DO NOTHING",
		key, worker, wrapped)
	return err
}

// wrapAllFor wraps for a worker every data key that it is to hold. Keys that there are none of yet are wrapped when they are made.
func (s *database) wrapAllFor(ctx context.Context, tx *sqlx.Tx, worker uuid.UUID, recipient string) error {
	var keys []uuid.UUID
	if err := tx.SelectContext(ctx, &keys, "SELECT k.id FROM data_keys k, paired_workers w WHERE w.id = $1 AND "+holdsKey+
		" FOR KEY SHARE OF k", worker); err != nil {
		return err
	}
	for _, key := range keys {
		raw, err := s.readDataKey(context.WithValue(ctx, txKey{}, tx), key)
		if err != nil {
			return err
		}
		if err := wrap(ctx, tx, key, worker, recipient, raw); err != nil {
			return err
		}
	}
	return nil
}

// scopeOf returns the site whose data key a sign-in is encrypted with: the site that it is for, or the one in which all devices stand that
// it is for; nil for one that is for every site.
func scopeOf(ctx context.Context, tx *sqlx.Tx, signIn uuid.UUID) (site *uuid.UUID, err error) {
	return site, tx.GetContext(ctx, &site, `SELECT COALESCE(s.site_id, (SELECT min(d.site_id::text)::uuid FROM sign_in_devices b
		JOIN devices d ON d.id = b.device_id WHERE b.sign_in_id = s.id HAVING count(DISTINCT d.site_id) = 1)) FROM sign_ins s WHERE s.id = $1`,
		signIn)
}

// A kept value is one that stands encrypted in a row beside the ID of its data key.
type keptValue struct {
	table, column string
	owner         func(uuid.UUID) string
}

// underDataKeys are the values that data keys encrypt.
var underDataKeys = []keptValue{
	{"sign_ins", "sealed", uuid.UUID.String},
	{"relays", "sealed", relayOwner},
	{"relays", "sealed_key", keyOwner},
}

// rekey encrypts the values of one row anew: by another data key, or by the key file where to is nil.
func (s *database) rekey(ctx context.Context, tx *sqlx.Tx, table string, id uuid.UUID, to *siteCipher) error {
	ctx = context.WithValue(ctx, txKey{}, tx)
	var from, next *uuid.UUID
	if err := tx.GetContext(ctx, &from, "SELECT key_id FROM "+table+" WHERE id = $1 FOR UPDATE", id); err != nil {
		return notFoundIfNone(err)
	}
	if to != nil {
		next = &to.Key
	}
	if from != nil && next != nil && *from == *next || from == next {
		return nil
	}
	for _, v := range underDataKeys {
		if v.table != table {
			continue
		}
		var value []byte
		if err := tx.GetContext(ctx, &value, "SELECT "+v.column+" FROM "+table+" WHERE id = $1", id); err != nil {
			return err
		}
		if len(value) == 0 {
			continue
		}
		text, err := s.decryptBy(ctx, from, value, v.owner(id))
		if err != nil {
			return fmt.Errorf("a value in %s: %w", table, err)
		}
		if to != nil {
			value = to.Encrypt(text, v.owner(id))
		} else {
			value = s.cipher.Encrypt(text, v.owner(id))
		}
		if _, err := tx.ExecContext(ctx, "UPDATE "+table+" SET "+v.column+" = $2 WHERE id = $1", id, value); err != nil {
			return err
		}
	}
	_, err := tx.ExecContext(ctx, "UPDATE "+table+" SET key_id = $2 WHERE id = $1", id, next)
	return err
}

// intoScope encrypts a sign-in with the data key of where it is for now.
func (s *database) intoScope(ctx context.Context, tx *sqlx.Tx, signIn uuid.UUID) error {
	site, err := scopeOf(ctx, tx, signIn)
	if err != nil {
		return notFoundIfNone(err)
	}
	to, err := s.cipherOf(ctx, tx, site)
	if err != nil {
		return err
	}
	return s.rekey(ctx, tx, "sign_ins", signIn, &to)
}

// TurnOver encrypts with data keys what the key file itself still encrypts, a row at a time: cut off at any moment, another call goes on
// there. It returns how many rows that were.
func (s *Store) TurnOver(ctx context.Context) (rows int, err error) {
	return s.turn(ctx, "key_id IS NULL", func(tx *sqlx.Tx, table string, id uuid.UUID) error {
		if table == "sign_ins" {
			return s.intoScope(ctx, tx, id)
		}
		var site uuid.UUID
		if err := tx.GetContext(ctx, &site, "SELECT site_id FROM relays WHERE id = $1", id); err != nil {
			return err
		}
		to, err := s.cipherOf(ctx, tx, &site)
		if err != nil {
			return err
		}
		return s.rekey(ctx, tx, table, id, &to)
	})
}

// TurnBack encrypts with the key file whatever data keys encrypt, for an older version of the program, which knows none. The next start of
// this one turns it over again.
func (s *Store) TurnBack(ctx context.Context) (rows int, err error) {
	return s.turn(ctx, "key_id IS NOT NULL", func(tx *sqlx.Tx, table string, id uuid.UUID) error {
		return s.rekey(ctx, tx, table, id, nil)
	})
}

// turn does something in a transaction of its own with each row that holds encrypted values, and that where names. A row that is damaged
// keeps no other from it.
func (s *Store) turn(ctx context.Context, where string, do func(*sqlx.Tx, string, uuid.UUID) error) (rows int, failed error) {
	for _, table := range []string{"sign_ins", "relays"} {
		var ids []uuid.UUID
		if err := s.on(ctx).SelectContext(ctx, &ids, "SELECT id FROM "+table+" WHERE "+where+" ORDER BY id"); err != nil {
			return rows, err
		}
		for _, id := range ids {
			err := s.tx(ctx, func(tx *sqlx.Tx) error { return do(tx, table, id) })
			switch {
			case err == nil:
				rows++
			case errors.Is(err, ErrNotFound): // it was deleted meanwhile
			case Away(err) || ctx.Err() != nil:
				return rows, err
			default:
				failed = errors.Join(failed, err)
			}
		}
	}
	return rows, failed
}

// RotateSite gives a site another data key, or what is for every site where site is nil, and encrypts with it what is of the site. Whoever
// held the old key opens nothing that is written from now on.
func (s *Store) RotateSite(ctx context.Context, site *uuid.UUID) (rows int, err error) {
	err = s.together(ctx, func(ctx context.Context, tx *sqlx.Tx) error {
		var old uuid.UUID
		// Whoever encrypts with the old key at this moment is waited for; whoever comes after finds the new one.
		err := notFoundIfNone(tx.GetContext(ctx, &old, "SELECT id FROM data_keys WHERE site_id IS NOT DISTINCT FROM $1 FOR UPDATE", site))
		if errors.Is(err, ErrNotFound) {
			return nil // nothing is encrypted with one
		}
		if err != nil {
			return err
		}
		before, err := s.dataKey(ctx, old)
		if err != nil {
			return err
		}
		id, raw := newID(), newKey()
		if _, err := tx.ExecContext(ctx, "DELETE FROM wrapped_keys WHERE key_id = $1", old); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, "UPDATE data_keys SET id = $2, sealed = $3, created_at = now() WHERE id = $1", old, id,
			s.cipher.Encrypt(hex.EncodeToString(raw), dataKeyOwner(id))); err != nil {
			return err
		}
		after, err := chacha20poly1305.NewX(raw)
		if err != nil {
			return err
		}
		if rows, err = reencrypt(ctx, tx, id, before, siteCipher{id, after}); err != nil {
			return err
		}
		return wrapForWorkers(ctx, tx, id, raw)
	})
	return rows, err
}

// reencrypt encrypts anew, by after, all that stands under the data key of an ID and that before opens.
func reencrypt(ctx context.Context, tx *sqlx.Tx, key uuid.UUID, before cipher.AEAD, after siteCipher) (rows int, err error) {
	for _, v := range underDataKeys {
		var list []struct {
			ID    uuid.UUID `db:"id"`
			Value []byte    `db:"value"`
		}
		if err := tx.SelectContext(ctx, &list, fmt.Sprintf("SELECT id, %s AS value FROM %s WHERE key_id = $1 AND length(%[1]s) > 0 FOR UPDATE",
			v.column, v.table), key); err != nil {
			return rows, err
		}
		for _, row := range list {
			text, err := decryptWith(before, row.Value, v.owner(row.ID))
			if err != nil {
				return rows, fmt.Errorf("a value in %s: %w", v.table, err)
			}
			if _, err := tx.ExecContext(ctx, "UPDATE "+v.table+" SET "+v.column+" = $2 WHERE id = $1", row.ID,
				after.Encrypt(text, v.owner(row.ID))); err != nil {
				return rows, err
			}
			rows++
		}
	}
	return rows, nil
}
