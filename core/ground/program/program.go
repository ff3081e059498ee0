// Package program hands the program of a worker on to machines elsewhere: a file that was signed by whoever makes it. Who carries it, a
// server or a disk, is trusted with nothing: the machine looks at the signature, by a key that it was given beforehand.
package program

import (
	"bufio"
	"bytes"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/sha256"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"regexp"
	"strconv"
	"strings"

	"unlatch/core/ground/wiretext"
)

// A Manifest says which program a file holds.
type Manifest struct {
	Version string `json:"version"`
	OS      string `json:"os"`   // as Go names it, such as linux
	Arch    string `json:"arch"` // as Go names it, such as arm64
	Size    int64  `json:"size"` // in bytes
	SHA256  []byte `json:"sha256"`
}

// A head is a manifest with its signature, as JSON. It stands before the program in a signed file, in a line of its own.
type head struct {
	Manifest  []byte `json:"manifest"` // as JSON, the bytes that were signed
	Signature []byte `json:"signature"`
}

// Bounds of what is read.
const (
	MaxHead = 4 << 10   // bytes of a head
	MaxSize = 256 << 20 // bytes of a program
)

// purpose separates what is signed here from whatever else might ever be signed with the key (RFC 8032 §5.1).
const purpose = "unlatch program 1\n"

// Errors of what is read. Each is a file that is not taken.
var (
	ErrNoHead    = errors.New("this is no signed program: it begins with no head")
	ErrSignature = errors.New("the program is signed by another key than the one that this machine trusts, or was changed since")
	ErrChanged   = errors.New("the program is not the one that was signed: its bytes are others")
)

// Platform returns where the program runs, such as linux/arm64.
func (m Manifest) Platform() string { return m.OS + "/" + m.Arch }

var (
	versionForm  = regexp.MustCompile(`^(\d{1,6})\.(\d{1,6})\.(\d{1,6})$`)
	platformForm = regexp.MustCompile(`^[a-z0-9]{1,20}/[a-z0-9]{1,20}$`)
)

// check reports what a manifest cannot say.
func (m Manifest) check() error {
	switch {
	case !versionForm.MatchString(m.Version):
		return fmt.Errorf("the version of a program is three numbers, such as 1.4.0, and not %q", clip(m.Version))
	case !platformForm.MatchString(m.Platform()):
		return fmt.Errorf("a program is for a platform such as linux/arm64, and not for %q", clip(m.Platform()))
	case m.Size <= 0 || m.Size > MaxSize:
		return fmt.Errorf("a program has up to %d MB, and not %d bytes", MaxSize>>20, m.Size)
	case len(m.SHA256) != sha256.Size:
		return errors.New("a program is known by its SHA-256, which is missing")
	}
	return nil
}

func clip(s string) string { return wiretext.Line(s, 40) }

// Newer reports whether version comes after than. Each is three numbers, such as 0.10.1; where one is not, it reports false.
func Newer(version, than string) bool {
	a, b := versionForm.FindStringSubmatch(version), versionForm.FindStringSubmatch(than)
	if a == nil || b == nil {
		return false
	}
	for i := range 3 {
		x, _ := strconv.Atoi(a[i+1])
		y, _ := strconv.Atoi(b[i+1])
		if x != y {
			return x > y
		}
	}
	return false
}

// NewKey makes a key for signing programs, as PEM (PKCS #8), and returns what machines trust it by: its public half, in base64.
func NewKey() (private []byte, trusted string, err error) {
	public, key, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return nil, "", err
	}
	der, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return nil, "", err
	}
	return pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}), base64.StdEncoding.EncodeToString(public), nil
}

// ReadKey reads a key as NewKey writes it.
func ReadKey(text []byte) (ed25519.PrivateKey, error) {
	if block, _ := pem.Decode(text); block != nil {
		if key, err := x509.ParsePKCS8PrivateKey(block.Bytes); err == nil {
			if key, ok := key.(ed25519.PrivateKey); ok {
				return key, nil
			}
		}
	}
	return nil, errors.New("this is no key for signing programs: unlatch program key makes one")
}

// ReadTrusted reads the public half of a key as NewKey writes it.
func ReadTrusted(text string) (ed25519.PublicKey, error) {
	raw, err := base64.StdEncoding.DecodeString(strings.TrimSpace(text))
	if err != nil || len(raw) != ed25519.PublicKeySize {
		return nil, errors.New("this is no key that programs are signed with: it is the line of 44 characters that unlatch program key writes")
	}
	return raw, nil
}

// Sign returns the head of a program.
func Sign(key ed25519.PrivateKey, m Manifest) ([]byte, error) {
	if err := m.check(); err != nil {
		return nil, err
	}
	raw, err := json.Marshal(m)
	if err != nil {
		return nil, err
	}
	return json.Marshal(head{raw, ed25519.Sign(key, append([]byte(purpose), raw...))})
}

// Says reads what a head says, whoever has signed it: nothing may be run by that.
func Says(text []byte) (Manifest, error) {
	m, _, err := read(text)
	return m, err
}

// Verify reads a head that was signed with a trusted key. The error is ErrSignature for any other.
func Verify(text []byte, trusted ed25519.PublicKey) (Manifest, error) {
	m, h, err := read(text)
	if err != nil {
		return Manifest{}, err
	}
	if len(trusted) != ed25519.PublicKeySize || !ed25519.Verify(trusted, append([]byte(purpose), h.Manifest...), h.Signature) {
		return Manifest{}, ErrSignature
	}
	return m, nil
}

func read(text []byte) (m Manifest, h head, err error) {
	if len(text) > MaxHead || json.Unmarshal(text, &h) != nil || json.Unmarshal(h.Manifest, &m) != nil {
		return Manifest{}, head{}, ErrNoHead
	}
	return m, h, m.check()
}

// Split reads the head of a signed file, and returns it with what reads the program behind it.
func Split(file io.Reader) (text []byte, rest io.Reader, err error) {
	r := bufio.NewReaderSize(file, MaxHead+1)
	text, err = r.ReadSlice('\n')
	if err != nil {
		return nil, nil, ErrNoHead
	}
	text = bytes.Clone(bytes.TrimSuffix(text, []byte("\n")))
	_, err = Says(text)
	return text, r, err
}

// Copy copies a program and checks that it is the one of the manifest: no byte more or fewer, and none other. The error is ErrChanged where
// it is another; what was copied by then must not be run.
func (m Manifest) Copy(to io.Writer, from io.Reader) error {
	sum := sha256.New()
	n, err := io.Copy(io.MultiWriter(to, sum), io.LimitReader(from, m.Size+1))
	if err != nil {
		return err
	}
	if n != m.Size || !bytes.Equal(sum.Sum(nil), m.SHA256) {
		return ErrChanged
	}
	return nil
}
