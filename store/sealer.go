package store

import (
	"crypto/cipher"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"golang.org/x/crypto/chacha20poly1305"
)

// A Sealer encrypts sign-ins at rest with XChaCha20-Poly1305. The key stands in a file of its own beside the database, so
// that a dump of the database alone opens nothing.
type Sealer struct{ aead cipher.AEAD }

// OpenSealer reads the key file, making it with mode 0600 where there is none. A key file that others may read is refused.
func OpenSealer(path string) (*Sealer, error) {
	info, err := os.Stat(path)
	if errors.Is(err, fs.ErrNotExist) {
		if err := makeKey(path); err != nil {
			return nil, fmt.Errorf("making the key file: %w", err)
		}
		info, err = os.Stat(path)
	}
	if err != nil {
		return nil, err
	}
	if info.Mode().Perm()&0o077 != 0 {
		return nil, fmt.Errorf("the key file %s may be read by others; run: chmod 600 %s", path, path)
	}
	key, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	aead, err := chacha20poly1305.NewX(key)
	if err != nil {
		return nil, fmt.Errorf("the key file %s is damaged; restore it, since the sign-ins sealed with it cannot be read otherwise", path)
	}
	return &Sealer{aead}, nil
}

func makeKey(path string) error {
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if errors.Is(err, fs.ErrExist) {
		return nil // another process made it at the same moment
	}
	if err != nil {
		return err
	}
	key := make([]byte, chacha20poly1305.KeySize)
	rand.Read(key)
	_, err = f.Write(key)
	return errors.Join(err, f.Sync(), f.Close())
}

// Seal encrypts text, bound to what it belongs to: a sealed value moved to another row does not open.
func (s *Sealer) Seal(text, owner string) []byte {
	nonce := make([]byte, s.aead.NonceSize())
	rand.Read(nonce)
	return s.aead.Seal(nonce, nonce, []byte(text), []byte(owner))
}

// Open decrypts what Seal made for the same owner.
func (s *Sealer) Open(sealed []byte, owner string) (string, error) {
	n := s.aead.NonceSize()
	if len(sealed) < n {
		return "", errors.New("a sealed sign-in is damaged")
	}
	text, err := s.aead.Open(nil, sealed[:n], sealed[n:], []byte(owner))
	if err != nil {
		return "", errors.New("a sealed sign-in does not open with this key file")
	}
	return string(text), nil
}
