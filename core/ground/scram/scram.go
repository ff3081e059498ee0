// Package scram reckons what PostgreSQL keeps of a password, so that the password itself stands in no statement, and in no log of them.
package scram

import (
	"crypto/hmac"
	"crypto/pbkdf2"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"fmt"
)

// Rounds is how often PostgreSQL hashes a password by itself.
const Rounds = 4096

// Verifier returns the SCRAM-SHA-256 verifier of a password (RFC 5803), which CREATE ROLE and ALTER ROLE take in place of the password.
// Whoever signs in hashes the password as many times as rounds says (RFC 5802 §3).
func Verifier(password string, rounds int) string {
	salt := make([]byte, 16)
	rand.Read(salt)
	salted, err := pbkdf2.Key(sha256.New, password, salt, rounds, sha256.Size)
	if err != nil {
		panic(err) // only for lengths that are not these
	}
	sign := func(what string) []byte {
		h := hmac.New(sha256.New, salted)
		h.Write([]byte(what))
		return h.Sum(nil)
	}
	stored := sha256.Sum256(sign("Client Key"))
	text := base64.StdEncoding.EncodeToString
	return fmt.Sprintf("SCRAM-SHA-256$%d:%s$%s:%s", rounds, text(salt), text(stored[:]), text(sign("Server Key")))
}
