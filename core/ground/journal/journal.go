// Package journal keeps on disk what cannot be handed over yet: encrypted, in order, and no more than it is allowed.
package journal

import (
	"bufio"
	"crypto/aes"
	"crypto/cipher"
	"crypto/hkdf"
	"crypto/rand"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"os"
	"sync"
)

// ErrFull is for an entry for which there is no room.
var ErrFull = errors.New("the journal is full")

// MostEntry is how long one entry may be, in bytes.
const MostEntry = 16 << 20

// A Journal is a file of entries. Each is encrypted and bound to its place (AES-256-GCM, NIST SP 800-38D): none can be read, changed, left
// out before another or moved by whoever has the file. It is safe for concurrent use.
type Journal struct {
	mu      sync.Mutex
	file    file
	cipher  cipher.AEAD
	size    int64
	most    int64
	entries uint64
}

// A file is what a journal needs of an *os.File.
type file interface {
	io.ReaderAt
	io.WriterAt
	io.Seeker
	io.Closer
	Truncate(size int64) error
}

// Open opens the journal in a file, or makes one, whose entries are encrypted by a key of any length that is derived from secret. It grows
// to most bytes. What follows an entry that cannot be read is cut off: it was being written when the power went, or it is of another key;
// lost is how many bytes that was.
func Open(path string, secret []byte, most int64) (j *Journal, lost int64, err error) {
	key, err := hkdf.Key(sha256.New, secret, nil, "unlatch journal", 32)
	if err != nil {
		return nil, 0, err
	}
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, 0, err
	}
	j = &Journal{most: most}
	if j.cipher, err = cipher.NewGCM(block); err != nil {
		return nil, 0, err
	}
	if j.file, err = os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600); err != nil {
		return nil, 0, err
	}
	err = j.read(func([]byte) error { return nil })
	if err == nil {
		var all int64
		if all, err = j.file.Seek(0, io.SeekEnd); err == nil {
			lost = all - j.size
			err = j.file.Truncate(j.size)
		}
	}
	if err != nil {
		j.file.Close()
		return nil, 0, err
	}
	return j, lost, nil
}

// Append adds an entry. It returns ErrFull where there is no room for it, and keeps nothing of an entry that the disk does not take.
func (j *Journal) Append(entry []byte) error {
	j.mu.Lock()
	defer j.mu.Unlock()
	raw := make([]byte, 4, 4+j.cipher.NonceSize()+len(entry)+j.cipher.Overhead())
	raw = append(raw, make([]byte, j.cipher.NonceSize())...)
	rand.Read(raw[4:])
	raw = j.cipher.Seal(raw, raw[4:], entry, place(j.entries))
	if len(entry) > MostEntry || j.size+int64(len(raw)) > j.most {
		return ErrFull
	}
	binary.BigEndian.PutUint32(raw, uint32(len(raw)-4))
	if _, err := j.file.WriteAt(raw, j.size); err != nil {
		return errors.Join(fmt.Errorf("writing to the journal: %w", err), j.file.Truncate(j.size))
	}
	j.size += int64(len(raw))
	j.entries++
	return nil
}

// Len returns how many entries there are.
func (j *Journal) Len() int {
	j.mu.Lock()
	defer j.mu.Unlock()
	return int(j.entries)
}

// Each calls fn with each entry, in order, until it returns an error. Nothing can be added meanwhile.
func (j *Journal) Each(fn func([]byte) error) error {
	j.mu.Lock()
	defer j.mu.Unlock()
	return j.read(fn)
}

// read reads the entries from the beginning, and notes where they end.
func (j *Journal) read(fn func([]byte) error) error {
	r := bufio.NewReader(io.NewSectionReader(j.file, 0, 1<<62))
	size, n := int64(0), uint64(0)
	for {
		entry, length, ok, err := j.next(r, n)
		if err != nil {
			return err
		}
		if !ok {
			j.size, j.entries = size, n
			return nil
		}
		if err := fn(entry); err != nil {
			return err
		}
		size += length
		n++
	}
}

// next reads the entry of a place; ok is false where none can be read.
func (j *Journal) next(r io.Reader, n uint64) (entry []byte, length int64, ok bool, err error) {
	var head [4]byte
	if _, err := io.ReadFull(r, head[:]); err != nil {
		return nil, 0, false, unlessEnded(err)
	}
	long := binary.BigEndian.Uint32(head[:])
	if long < uint32(j.cipher.NonceSize()+j.cipher.Overhead()) || long > MostEntry+64 {
		return nil, 0, false, nil
	}
	raw := make([]byte, long)
	if _, err := io.ReadFull(r, raw); err != nil {
		return nil, 0, false, unlessEnded(err)
	}
	nonce := raw[:j.cipher.NonceSize()]
	entry, bad := j.cipher.Open(nil, nonce, raw[len(nonce):], place(n))
	return entry, int64(4 + long), bad == nil, nil
}

func unlessEnded(err error) error {
	if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		return nil
	}
	return err
}

// place is what binds an entry to its place.
func place(n uint64) []byte { return binary.BigEndian.AppendUint64(nil, n) }

// Clear removes all entries.
func (j *Journal) Clear() error {
	j.mu.Lock()
	defer j.mu.Unlock()
	if err := j.file.Truncate(0); err != nil {
		return err
	}
	j.size, j.entries = 0, 0
	return nil
}

// Close closes the file.
func (j *Journal) Close() error { return j.file.Close() }
