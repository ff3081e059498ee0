package store

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"hash"
	"strconv"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
)

// A Chain is what a check of the record found: how far it goes, or the first line at which it does not hold.
type Chain struct {
	Lines  int64     // that were read
	Last   time.Time // when the newest was written
	Hash   string    // of the newest line, in hex: whoever has noted it down knows later that nothing before it was changed
	Broken *Break    // nil where every line holds
	// Wanted is the hash that some line was to have, and Contains says whether one has it.
	Wanted   string
	Contains bool
}

// A Break is the first line of the record that does not follow from the one before.
type Break struct {
	Number int64 // of the line
	Why    string
}

// Reasons why a line does not follow.
const (
	lineChanged = "it was changed, or slipped in, after it was written"
	lineMissing = "one or more lines before it were taken out"
	lineDoubled = "its number is taken already"
	tailMissing = "the lines after it were taken out"
)

// Verify reads the whole record and works the hash of each line out anew. A program with the database's own password can write a record
// that holds in itself; Chain.Hash, noted down elsewhere and given as wanted later, shows that too.
func (s *Store) Verify(ctx context.Context, wanted string) (c Chain, err error) {
	c.Wanted = strings.ToLower(strings.TrimSpace(wanted))
	seek, err := hex.DecodeString(c.Wanted)
	if err != nil {
		return c, fmt.Errorf("%q is no hash: %w", wanted, err)
	}
	conn, err := s.Pool.Acquire(ctx)
	if err != nil {
		return c, err
	}
	defer conn.Release()
	tx, err := conn.BeginTx(ctx, pgx.TxOptions{IsoLevel: pgx.RepeatableRead, AccessMode: pgx.ReadOnly}) // lines may be added meanwhile
	if err != nil {
		return c, err
	}
	defer tx.Rollback(context.WithoutCancel(ctx))
	var head int64
	var headHash []byte
	if err := tx.QueryRow(ctx, "SELECT number, hash FROM record_head").Scan(&head, &headHash); err != nil {
		return c, err
	}
	rows, err := tx.Query(ctx, `SELECT number, id, at, person_id, person, token, act, action, subject, before, after, site_id, site, device_id,
		device, devices, target_id, target, hash FROM audit ORDER BY number, id`)
	if err != nil {
		return c, err
	}
	defer rows.Close()
	check := newChainCheck()
	for rows.Next() {
		var l Line
		var sum []byte
		var devices []uuid.UUID
		if err := rows.Scan(&l.Number, &l.ID, &l.At, &l.PersonID, &l.Person, &l.Token, &l.Act, &l.Action, &l.Subject, &l.Before, &l.After,
			&l.SiteID, &l.Site, &l.DeviceID, &l.Device, &devices, &l.TargetID, &l.Target, &sum); err != nil {
			return c, err
		}
		l.Devices = devices
		if c.Broken = check.add(&l, sum); c.Broken != nil {
			return c, nil
		}
		c.Lines, c.Last, c.Contains = l.Number, l.At, c.Contains || bytes.Equal(seek, sum)
	}
	c.Hash = hex.EncodeToString(check.last)
	if c.Lines != head || !bytes.Equal(check.last, headHash) {
		c.Broken = &Break{c.Lines, tailMissing}
	}
	return c, rows.Err()
}

// A chainCheck follows the record line by line.
type chainCheck struct {
	number int64
	last   []byte
	hasher hash.Hash
	buf    []byte
}

func newChainCheck() *chainCheck {
	return &chainCheck{last: make([]byte, sha256.Size), hasher: sha256.New()}
}

// add takes the next line with the hash that it carries, and says why it does not follow; nil where it does.
func (c *chainCheck) add(l *Line, sum []byte) *Break {
	switch {
	case l.Number <= c.number:
		return &Break{l.Number, lineDoubled}
	case l.Number > c.number+1:
		return &Break{l.Number, lineMissing}
	}
	if c.sum(l); !bytes.Equal(c.last, sum) {
		return &Break{l.Number, lineChanged}
	}
	c.number = l.Number
	return nil
}

// sum replaces last by the hash of a line after it: SHA-256 of last and of each field as a netstring, in the order of record_hash in the
// database.
func (c *chainCheck) sum(l *Line) {
	b := append(c.buf[:0], c.last...)
	b = appendField(b, strconv.FormatInt(l.Number, 10))
	b = appendField(b, l.ID.String())
	b = appendField(b, strconv.FormatInt(l.At.UnixMicro(), 10))
	b = appendID(b, l.PersonID)
	for _, text := range [...]string{l.Person, l.Token, string(l.Act), l.Action, l.Subject, l.Before, l.After} {
		b = appendField(b, text)
	}
	b = appendField(appendID(b, l.SiteID), l.Site)
	b = appendField(appendID(b, l.DeviceID), l.Device)
	b = appendField(b, joined(l.Devices))
	b = appendField(appendID(b, l.TargetID), l.Target)
	c.buf = b
	c.hasher.Reset()
	c.hasher.Write(b)
	c.last = c.hasher.Sum(c.last[:0])
}

// HashAfter returns the hash of a line that follows one with the hash last; the first line follows 32 zeros.
func (l *Line) HashAfter(last []byte) []byte {
	c := newChainCheck()
	c.last = append(c.last[:0], last...)
	c.sum(l)
	return c.last
}

func joined(ids []uuid.UUID) string {
	if len(ids) == 0 {
		return ""
	}
	texts := make([]string, len(ids))
	for i, id := range ids {
		texts[i] = id.String()
	}
	return strings.Join(texts, " ")
}

// appendField appends a netstring: the count of bytes, a colon, the bytes, a comma.
func appendField(b []byte, text string) []byte {
	b = strconv.AppendInt(b, int64(len(text)), 10)
	b = append(b, ':')
	b = append(b, text...)
	return append(b, ',')
}

func appendID(b []byte, id *uuid.UUID) []byte {
	if id == nil {
		return append(b, '-', ',')
	}
	return appendField(b, id.String())
}

// String says what the check found.
func (c Chain) String() string {
	if c.Broken != nil {
		return fmt.Sprintf("line %d does not hold: %s", c.Broken.Number, c.Broken.Why)
	}
	text := fmt.Sprintf("all %d lines hold; the newest has the hash %s", c.Lines, c.Hash)
	switch {
	case c.Contains:
		text += "; a line has the hash that was asked for"
	case c.Wanted != "":
		text += "; no line has the hash that was asked for: the record was written anew since"
	}
	return text
}
