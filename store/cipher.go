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

// A Cipher encrypts sign-ins at rest with XChaCha20-Poly1305. The key stands in a file of its own beside the database, so
// that a dump of the database alone opens nothing.
type Cipher struct{ aead cipher.AEAD }

// OpenCipher reads the key file. It is an error that satisfies errors.Is(err, fs.ErrNotExist) where there is none. A key file that others
// may read is refused.
func OpenCipher(path string) (*Cipher, error) {
	info, err := os.Stat(path)
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
		return nil, fmt.Errorf("the key file %s is damaged; restore it from a backup, since the sign-ins encrypted with it cannot be read "+
			"otherwise", path)
	}
	return &Cipher{aead}, nil
}

// A KeyError means that the database's sign-ins are encrypted with a key that is not there. Nothing was changed.
type KeyError struct {
	Path string
	Gone bool // there is no key file; else it holds another key
}

func (e *KeyError) Error() string {
	what := "holds another key than the one that the sign-ins of this database are encrypted with"
	if e.Gone {
		what = "is gone, and the sign-ins of this database are encrypted with it"
	}
	return fmt.Sprintf("the key file %[1]s %[2]s.\nPut the right one back from a backup. If it is lost for good, start once with "+
		"--forget-sign-ins: "+
		"that makes a new key, empties the keyring and keeps everything else", e.Path, what)
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

// Encrypt encrypts text, bound to what it belongs to: a value moved to another row does not open.
func (s *Cipher) Encrypt(text, owner string) []byte {
	nonce := make([]byte, s.aead.NonceSize())
	rand.Read(nonce)
	return s.aead.Seal(nonce, nonce, []byte(text), []byte(owner))
}

// Decrypt decrypts what Encrypt made for the same owner.
func (s *Cipher) Decrypt(encrypted []byte, owner string) (string, error) {
	n := s.aead.NonceSize()
	if len(encrypted) < n {
		return "", errors.New("an encrypted sign-in is damaged")
	}
	text, err := s.aead.Open(nil, encrypted[:n], encrypted[n:], []byte(owner))
	if err != nil {
		return "", errors.New("an encrypted sign-in does not open with this key file")
	}
	return string(text), nil
}
