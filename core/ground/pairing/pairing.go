// Package pairing is how a worker at a site and its server come to know each other: the worker makes a key of its own, which never leaves
// it; a person confirms on the server's page the code that the worker shows; from then on the worker is known by signing what the server
// asks.
package pairing

import (
	"crypto/ed25519"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base32"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"filippo.io/age"
)

// A Key is what a worker is known by. Its zero value is no key.
type Key struct{ private ed25519.PrivateKey }

// NewKey makes a key.
func NewKey() Key {
	_, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		panic(err) // crypto/rand does not fail
	}
	return Key{private}
}

// Public returns what the server knows the key by.
func (k Key) Public() Public { return Public(k.private.Public().(ed25519.PublicKey)) }

// A Public is the public half of a key: 32 bytes (RFC 8032 §5.1.5).
type Public []byte

// Name returns a short name of the key for people and logs: the beginning of its SHA-256 in hex.
func (p Public) Name() string {
	sum := sha256.Sum256(p)
	return hex.EncodeToString(sum[:6])
}

// Valid reports whether it can be one.
func (p Public) Valid() bool { return len(p) == ed25519.PublicKeySize }

// Sizes of what is signed.
const (
	// NonceSize is that of what each side contributes, in bytes.
	NonceSize = 32
	// SignatureSize is that of a signature, in bytes.
	SignatureSize = ed25519.SignatureSize
)

// Nonce returns what was never sent before.
func Nonce() []byte {
	b := make([]byte, NonceSize)
	rand.Read(b)
	return b
}

// purpose separates what is signed here from whatever else might ever be signed with the key.
const purpose = "unlatch worker link 1\n"

// signed is what a worker signs: both nonces, so that neither side can have it sign something of the other's choice or show an old answer,
// and what it says of itself.
func signed(server, worker []byte, says string) []byte {
	sum := sha256.Sum256([]byte(says))
	out := append([]byte(purpose), server...)
	return append(append(out, worker...), sum[:]...)
}

// Sign answers a challenge: the server's nonce and the worker's own, and what the worker says of itself.
func (k Key) Sign(server, worker []byte, says string) []byte {
	return ed25519.Sign(k.private, signed(server, worker, says))
}

// Verify reports whether an answer to a challenge is the key's.
func (p Public) Verify(server, worker []byte, says string, signature []byte) bool {
	return p.Valid() && len(server) == NonceSize && len(worker) == NonceSize && len(signature) == SignatureSize &&
		ed25519.Verify(ed25519.PublicKey(p), signed(server, worker, says), signature)
}

// letters are those of a code, as people type them: none that look alike.
var letters = base32.NewEncoding("ABCDEFGHJKLMNPQRSTUVWXYZ23456789").WithPadding(base32.NoPadding)

// codeBytes of chance are in a code: 40 bits, of which an address may try ten a minute for ten minutes.
const codeBytes = 5

// NewCode returns a code that people read off one screen and type at another, as in "K7QM-2P4X".
func NewCode() string {
	b := make([]byte, codeBytes)
	rand.Read(b)
	text := letters.EncodeToString(b)
	return text[:4] + "-" + text[4:]
}

// ReadCode returns a code as NewCode writes it, however it was typed; ok is false for what is none.
func ReadCode(typed string) (code string, ok bool) {
	text := strings.Map(func(r rune) rune {
		if r == '-' || r == ' ' {
			return -1
		}
		return r
	}, strings.ToUpper(typed))
	if b, err := letters.DecodeString(text); err != nil || len(b) != codeBytes || len(text) != letters.EncodedLen(codeBytes) {
		return "", false
	}
	return text[:4] + "-" + text[4:], true
}

// An Identity is what a worker keeps of its pairing, in a file that nobody else reads.
type Identity struct {
	Server string `json:"server"` // URL
	// Fingerprint is the SHA-256 of the server's certificate in hex, where it made that itself; "" trusts what the machine trusts.
	Fingerprint string `json:"fingerprint,omitempty"`
	Worker      string `json:"worker"` // its ID at the server; "" until a person has confirmed it
	Seed        []byte `json:"seed"`   // of its key (RFC 8032 §5.1.5)
	// Unwrap is the secret key (age, X25519) that the data keys of its sites are wrapped for.
	Unwrap string `json:"unwrap"`
}

// NewIdentity makes an identity with a key of its own.
func NewIdentity(server, fingerprint string) Identity {
	unwrap, err := age.GenerateX25519Identity()
	if err != nil {
		panic(err) // crypto/rand does not fail
	}
	return Identity{Server: server, Fingerprint: fingerprint, Seed: NewKey().private.Seed(), Unwrap: unwrap.String()}
}

// Recipient returns what data keys are wrapped for so that this identity opens them.
func (i Identity) Recipient() string {
	unwrap, err := age.ParseX25519Identity(i.Unwrap)
	if err != nil {
		return ""
	}
	return unwrap.Recipient().String()
}

// IsRecipient reports whether a text is what data keys can be wrapped for.
func IsRecipient(text string) bool {
	_, err := age.ParseX25519Recipient(text)
	return err == nil
}

// Key returns the identity's key.
func (i Identity) Key() Key { return Key{ed25519.NewKeyFromSeed(i.Seed)} }

// ErrNotPaired is for a machine that has no identity yet.
var ErrNotPaired = errors.New("this machine is not paired with a server")

// An ExposedError says that others on the machine can read an identity.
type ExposedError struct {
	Path string
	Mode fs.FileMode
}

func (e *ExposedError) Error() string {
	return fmt.Sprintf("%s can be read by others on this machine (%v): whoever has it is this worker. Take that away with: chmod 600 %[1]s",
		e.Path, e.Mode)
}

// ReadIdentity reads an identity. Its error is ErrNotPaired where there is none, or an *ExposedError.
func ReadIdentity(path string) (i Identity, err error) {
	info, err := os.Stat(path)
	if errors.Is(err, fs.ErrNotExist) {
		return i, ErrNotPaired
	}
	if err != nil {
		return i, err
	}
	if info.Mode().Perm()&0o077 != 0 {
		return i, &ExposedError{path, info.Mode().Perm()}
	}
	raw, err := os.ReadFile(path)
	if err == nil {
		err = json.Unmarshal(raw, &i)
	}
	if err == nil && (len(i.Seed) != ed25519.SeedSize || i.Recipient() == "") {
		err = errors.New("its key is damaged")
	}
	if err != nil {
		return Identity{}, fmt.Errorf("%s cannot be read: %w; pair the machine anew", path, err)
	}
	return i, nil
}

// Write keeps an identity in a file that only this user reads, whole or not at all.
func (i Identity) Write(path string) error {
	raw, err := json.MarshalIndent(i, "", " ")
	if err != nil {
		return err
	}
	f, err := os.CreateTemp(filepath.Dir(path), ".identity-*") // with mode 0600
	if err != nil {
		return err
	}
	defer os.Remove(f.Name())
	_, err = f.Write(append(raw, '\n'))
	if err == nil {
		err = f.Sync()
	}
	if cerr := f.Close(); err == nil {
		err = cerr
	}
	if err != nil {
		return err
	}
	return os.Rename(f.Name(), path)
}
