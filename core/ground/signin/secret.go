// Package signin holds sign-ins (a user name with a secret), the secret type that cannot leak, and the guard
// that keeps a person's own wrong keys from locking a device.
package signin

import (
	"fmt"
	"log/slog"
)

// hidden is what every way of printing a Secret shows.
const hidden = "•••"

// A Secret is a password that cannot be printed, logged or marshalled. The zero value is the empty password.
// Reveal is the one way to its text; callers outside core audit it.
type Secret struct{ text string }

// NewSecret makes a secret of text.
func NewSecret(text string) Secret { return Secret{text} }

// Reveal returns the text.
func (s Secret) Reveal() string { return s.text }

// Empty reports whether the password is the empty one.
func (s Secret) Empty() bool { return s.text == "" }

func (s Secret) String() string               { return hidden }
func (s Secret) GoString() string             { return hidden }
func (s Secret) Format(f fmt.State, _ rune)   { fmt.Fprint(f, hidden) }
func (s Secret) LogValue() slog.Value         { return slog.StringValue(hidden) }
func (s Secret) MarshalText() ([]byte, error) { return []byte(hidden), nil }

// UnmarshalText takes a password in; it is the way API requests and scenario files carry one.
func (s *Secret) UnmarshalText(b []byte) error { s.text = string(b); return nil }

// A SignIn is what a person holds to get into devices.
type SignIn struct {
	ID     string // of the keyring entry; empty for one typed on the command line
	User   string
	Secret Secret
}

// Anonymous reports whether there is nothing to sign in with.
func (s SignIn) Anonymous() bool { return s.User == "" && s.Secret.Empty() }
