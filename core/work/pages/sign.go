package pages

import (
	"crypto/hmac"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"strconv"
	"strings"
	"time"

	"unlatch/core/ground/signin"
)

// Sign returns the address of a relay's page behind the host, which ends at a time: "/TOKEN/PATH/". The token holds the end, and a code
// over it and the path by the relay's own secret (HMAC-SHA256, RFC 2104), so that nobody makes one, or prolongs it, who does not know that.
func Sign(secret signin.Secret, path string, until time.Time) string {
	end := strconv.FormatInt(until.Unix(), 36)
	return "/" + end + "." + code(secret, path, end) + "/" + strings.Trim(path, "/") + "/"
}

func code(secret signin.Secret, path, end string) string {
	// The secret opens the stream by RTSP as well: what is signed with is another key, made of it.
	key := hmac.New(sha256.New, []byte(secret.Reveal()))
	key.Write([]byte("pages of a relay"))
	h := hmac.New(sha256.New, key.Sum(nil))
	h.Write([]byte(strings.Trim(path, "/") + "\n" + end))
	return base64.RawURLEncoding.EncodeToString(h.Sum(nil)[:18])
}

// check returns when a token ends; ok is false for one that was not made for the path with the secret.
func check(secret signin.Secret, path, token string) (until time.Time, ok bool) {
	end, given, _ := strings.Cut(token, ".")
	seconds, err := strconv.ParseInt(end, 36, 64)
	if err != nil || secret.Empty() || subtle.ConstantTimeCompare([]byte(given), []byte(code(secret, path, end))) != 1 {
		return time.Time{}, false
	}
	return time.Unix(seconds, 0), true
}
