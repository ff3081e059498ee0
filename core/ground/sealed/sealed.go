// Package sealed seals a few bytes to public keys or to a passphrase, in the form of age (age-encryption.org/v1), and opens them again.
package sealed

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"strings"

	"filippo.io/age"

	"unlatch/core/ground/signin"
	"unlatch/core/ground/wiretext"
)

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

// To says to whom something was sealed.
type To struct {
	Recipients []string // public keys
	Passphrase bool
}

// Errors of whom to seal to.
var (
	ErrBoth   = errors.New("seal to recipients or to a passphrase, not to both")
	ErrNobody = errors.New("there is nobody to seal this to")
)

// Check says to whom Seal would seal, and returns its errors, without the second of work that a passphrase takes: a *RecipientError,
// ErrBoth, ErrNobody or ErrWeakPassphrase.
func Check(recipients string, passphrase signin.Secret) (To, error) {
	_, how, err := whom(recipients, passphrase)
	return how, err
}

func whom(recipients string, passphrase signin.Secret) ([]age.Recipient, To, error) {
	to, keys, err := ParseRecipients(recipients)
	switch {
	case err != nil:
		return nil, To{}, err
	case len(to) > 0 && !passphrase.Empty():
		return nil, To{}, ErrBoth
	case len(to) > 0:
		return to, To{Recipients: keys}, nil
	case passphrase.Empty():
		return nil, To{}, ErrNobody
	case len([]rune(passphrase.Reveal())) < leastPassphrase:
		return nil, To{}, ErrWeakPassphrase
	}
	r, err := age.NewScryptRecipient(passphrase.Reveal())
	return []age.Recipient{r}, To{Passphrase: true}, err
}

// Seal seals to recipients, see ParseRecipients, or to a passphrase. Its errors are those of Check.
func Seal(raw []byte, recipients string, passphrase signin.Secret) ([]byte, To, error) {
	to, how, err := whom(recipients, passphrase)
	if err != nil {
		return nil, To{}, err
	}
	var b bytes.Buffer
	w, err := age.Encrypt(&b, to...)
	if err != nil {
		return nil, To{}, err
	}
	if _, err := w.Write(raw); err != nil {
		return nil, To{}, err
	}
	if err := w.Close(); err != nil {
		return nil, To{}, err
	}
	return b.Bytes(), how, nil
}

// Errors of what was sealed.
var (
	ErrNotToYou = errors.New("that passphrase or key does not open what was sealed")
	ErrDamaged  = errors.New("what was sealed is damaged or too large")
)

// Open opens what was sealed with a secret key of age, which begins with AGE-SECRET-KEY-, or with a passphrase. It holds at most so many
// bytes.
func Open(raw []byte, with signin.Secret, most int) ([]byte, error) {
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
		return nil, ErrNotToYou
	}
	r, err := age.Decrypt(bytes.NewReader(raw), id)
	if err != nil {
		return nil, ErrNotToYou
	}
	open, err := io.ReadAll(io.LimitReader(r, int64(most)+1))
	if err != nil || len(open) > most {
		return nil, ErrDamaged
	}
	return open, nil
}
