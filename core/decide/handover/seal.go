package handover

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"

	"filippo.io/age"
	"github.com/google/uuid"

	"unlatch/core/ground/signin"
	"unlatch/core/ground/wiretext"
)

// A SealedSignIn is a sign-in as it stands in the sealed file, and what it is for.
type SealedSignIn struct {
	ID      uuid.UUID
	Label   string
	User    string
	Secret  signin.Secret
	For     []string // titles and addresses of what it opens, for people
	Devices []uuid.UUID
	Purpose string
}

// sealedLine is a sign-in in the sealed file.
type sealedLine struct {
	ID       uuid.UUID   `json:"id"`
	Label    string      `json:"label"`
	User     string      `json:"user"`
	Password string      `json:"password"`
	For      []string    `json:"for,omitempty"`
	Devices  []uuid.UUID `json:"devices,omitempty"`
	Purpose  string      `json:"purpose,omitempty"`
}

// sealedFile is what is sealed: JSON, which anyone reads with the age tool and an editor.
type sealedFile struct {
	Form    int          `json:"form"`
	Site    string       `json:"site"`
	SignIns []sealedLine `json:"sign_ins"`
}

// A RecipientError says which line of a list of recipients is wrong.
type RecipientError struct {
	Line    int // counted from 1
	Problem string
}

func (e *RecipientError) Error() string { return fmt.Sprintf("line %d: %s", e.Line, e.Problem) }

// Bounds of a list of recipients.
const (
	mostRecipients     = 50
	mostRecipientBytes = 64 << 10
	leastPassphrase    = 12
)

// ErrWeakPassphrase is for a passphrase that is tried out in no time.
var ErrWeakPassphrase = fmt.Errorf("the passphrase is shorter than %d characters", leastPassphrase)

// ParseRecipients reads public keys, one a line; empty lines and what begins with # are left out. Its error is a *RecipientError.
func ParseRecipients(text string) ([]age.Recipient, []string, error) {
	if len(text) > mostRecipientBytes {
		return nil, nil, &RecipientError{1, "the list is too long"}
	}
	var out []age.Recipient
	var keys []string
	for i, line := range strings.Split(text, "\n") {
		line = strings.TrimSpace(strings.TrimSuffix(line, "\r"))
		if line == "" || strings.HasPrefix(line, "#") {
			continue
		}
		if strings.HasPrefix(strings.ToUpper(line), "AGE-SECRET-KEY-") {
			return nil, nil, &RecipientError{i + 1, "this is a secret key: give the public one, which begins with age1, and keep this to yourself"}
		}
		list, err := age.ParseRecipients(strings.NewReader(line))
		if err != nil || len(list) != 1 {
			return nil, nil, &RecipientError{i + 1, fmt.Sprintf("%q is no public key: it begins with age1", wiretext.Line(line, 40))}
		}
		if len(out) == mostRecipients {
			return nil, nil, &RecipientError{i + 1, fmt.Sprintf("there are more than %d recipients", mostRecipients)}
		}
		out, keys = append(out, list[0]), append(keys, line)
	}
	return out, keys, nil
}

// Seal seals sign-ins to recipients or to a passphrase (age-encryption.org/v1).
func Seal(site string, list []SealedSignIn, recipients string, passphrase signin.Secret) ([]byte, SealedTo, error) {
	to, keys, err := ParseRecipients(recipients)
	if err != nil {
		return nil, SealedTo{}, err
	}
	how := SealedTo{Recipients: keys, SignIns: len(list)}
	switch {
	case len(to) > 0 && !passphrase.Empty():
		return nil, SealedTo{}, errors.New("seal to recipients or to a passphrase, not to both")
	case len(to) == 0 && passphrase.Empty():
		return nil, SealedTo{}, errors.New("there is nobody to seal the sign-ins to")
	case len(to) == 0:
		if len([]rune(passphrase.Reveal())) < leastPassphrase {
			return nil, SealedTo{}, ErrWeakPassphrase
		}
		r, err := age.NewScryptRecipient(passphrase.Reveal())
		if err != nil {
			return nil, SealedTo{}, err
		}
		to, how.Passphrase = []age.Recipient{r}, true
	}
	f := sealedFile{Form: Form, Site: site, SignIns: []sealedLine{}}
	for _, s := range list {
		f.SignIns = append(f.SignIns, sealedLine{s.ID, s.Label, s.User, s.Secret.Reveal(), s.For, s.Devices, s.Purpose})
	}
	raw, err := json.MarshalIndent(f, "", " ")
	if err != nil {
		return nil, SealedTo{}, err
	}
	var b bytes.Buffer
	w, err := age.Encrypt(&b, to...)
	if err != nil {
		return nil, SealedTo{}, err
	}
	if _, err := w.Write(raw); err != nil {
		return nil, SealedTo{}, err
	}
	if err := w.Close(); err != nil {
		return nil, SealedTo{}, err
	}
	return b.Bytes(), how, nil
}

// ErrNotSealedToYou is for a passphrase or a key that does not open a sealed file.
var ErrNotSealedToYou = errors.New("that passphrase or key does not open the sealed sign-ins")

// mostSealed bounds what is sealed, in bytes.
const mostSealed = 16 << 20

// Unseal opens a sealed file with a secret key of age, which begins with AGE-SECRET-KEY-, or with a passphrase.
func Unseal(sealed []byte, with signin.Secret) ([]SealedSignIn, error) {
	var id age.Identity
	text := strings.TrimSpace(with.Reveal())
	var err error
	if strings.HasPrefix(text, "AGE-SECRET-KEY-") {
		id, err = age.ParseX25519Identity(text)
	} else {
		var s *age.ScryptIdentity
		if s, err = age.NewScryptIdentity(with.Reveal()); err == nil {
			s.SetMaxWorkFactor(20) // about 2 s; whoever made the file may ask for years
			id = s
		}
	}
	if err != nil {
		return nil, ErrNotSealedToYou
	}
	r, err := age.Decrypt(bytes.NewReader(sealed), id)
	if err != nil {
		return nil, ErrNotSealedToYou
	}
	raw, err := io.ReadAll(io.LimitReader(r, mostSealed+1))
	if err != nil || len(raw) > mostSealed {
		return nil, errors.New("the sealed sign-ins are damaged or too large")
	}
	var f sealedFile
	if err := json.Unmarshal(raw, &f); err != nil {
		return nil, errors.New("the sealed sign-ins cannot be read")
	}
	if f.Form > Form {
		return nil, &FormError{f.Form}
	}
	if len(f.SignIns) > MostCameras {
		return nil, errors.New("there are too many sealed sign-ins")
	}
	var out []SealedSignIn
	for _, s := range f.SignIns {
		out = append(out, SealedSignIn{ID: s.ID, Label: wiretext.Line(s.Label, 120), User: wiretext.Line(s.User, 120),
			Secret: signin.NewSecret(s.Password), For: s.For, Devices: s.Devices, Purpose: s.Purpose})
	}
	return out, nil
}
