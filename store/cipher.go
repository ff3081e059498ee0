package store

import (
	"crypto/cipher"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"syscall"
	"time"

	"golang.org/x/crypto/chacha20poly1305"
)

// A Cipher encrypts sign-ins at rest with XChaCha20-Poly1305. The key stands in a file of its own beside the database, so
// that a dump of the database alone opens nothing. While the key is rotated the file holds two: the first encrypts, each decrypts.
// It is safe for concurrent use, and takes a changed file up at once.
type Cipher struct {
	path string

	mu    sync.Mutex
	keys  []cipher.AEAD
	stamp fileStamp
}

// A fileStamp tells whether a file was changed: by its identity, since each new one is put in its place as a whole.
type fileStamp struct {
	inode uint64
	at    time.Time
	size  int64
}

func stampOf(info fs.FileInfo) fileStamp {
	s := fileStamp{at: info.ModTime(), size: info.Size()}
	if sys, ok := info.Sys().(*syscall.Stat_t); ok {
		s.inode = sys.Ino
	}
	return s
}

// OpenCipher reads the key file. It is an error that satisfies errors.Is(err, fs.ErrNotExist) where there is none. A key file that others
// may read is refused.
func OpenCipher(path string) (*Cipher, error) {
	c := &Cipher{path: path}
	return c, c.refresh()
}

// refresh reads the key file if it has changed.
func (s *Cipher) refresh() error {
	info, err := os.Stat(s.path)
	if err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if stamp := stampOf(info); stamp != s.stamp {
		keys, err := readKeys(s.path)
		if err != nil {
			return err
		}
		s.keys = make([]cipher.AEAD, len(keys))
		for i, key := range keys {
			if s.keys[i], err = chacha20poly1305.NewX(key); err != nil {
				return err
			}
		}
		s.stamp = stamp
	}
	return nil
}

// readKeys returns the keys in a key file: one, or two while it is rotated.
func readKeys(path string) ([][]byte, error) {
	info, err := os.Stat(path)
	if err != nil {
		return nil, err
	}
	if info.Mode().Perm()&0o077 != 0 {
		return nil, fmt.Errorf("the key file %s may be read by others; run: chmod 600 %s", path, path)
	}
	raw, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	if n := len(raw) / chacha20poly1305.KeySize; n < 1 || n > 2 || len(raw)%chacha20poly1305.KeySize != 0 {
		return nil, fmt.Errorf("the key file %s is damaged; restore it from a backup, since the sign-ins encrypted with it cannot be read "+
			"otherwise", path)
	}
	return slices.Collect(slices.Chunk(raw, chacha20poly1305.KeySize)), nil
}

// present returns the keys as they are now, the one that encrypts first. A key file that cannot be read at the moment changes nothing.
func (s *Cipher) present() []cipher.AEAD {
	s.refresh()
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.keys
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
func (s *Cipher) Encrypt(text, owner string) []byte { return encryptWith(s.present()[0], text, owner) }

// encryptWith encrypts text with one key: a nonce, and what follows it.
func encryptWith(key cipher.AEAD, text, owner string) []byte {
	nonce := make([]byte, key.NonceSize())
	rand.Read(nonce)
	return key.Seal(nonce, nonce, []byte(text), []byte(owner))
}

// errDamaged is for what is no encrypted value, and errOtherKey for one that a key does not open.
var (
	errDamaged  = errors.New("an encrypted sign-in is damaged")
	errOtherKey = errors.New("an encrypted sign-in does not open with this key")
)

// decryptWith decrypts what encryptWith made with the same key for the same owner.
func decryptWith(key cipher.AEAD, encrypted []byte, owner string) (string, error) {
	n := key.NonceSize()
	if len(encrypted) < n {
		return "", errDamaged
	}
	text, err := key.Open(nil, encrypted[:n], encrypted[n:], []byte(owner))
	if err != nil {
		return "", errOtherKey
	}
	return string(text), nil
}

// Decrypt decrypts what Encrypt made for the same owner.
func (s *Cipher) Decrypt(encrypted []byte, owner string) (string, error) {
	text, _, err := s.decrypt(encrypted, owner)
	return text, err
}

// decrypt also says whether the key that encrypts now is the one that opened it.
func (s *Cipher) decrypt(encrypted []byte, owner string) (text string, current bool, err error) {
	for i, key := range s.present() {
		text, err := decryptWith(key, encrypted, owner)
		if !errors.Is(err, errOtherKey) {
			return text, err == nil && i == 0, err
		}
	}
	return "", false, errors.New("an encrypted sign-in does not open with this key file")
}
