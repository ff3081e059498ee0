// Package httpauth is the sign-in that HTTP and RTSP share: challenges in WWW-Authenticate lines, basic
// (RFC 7617) and digest (RFC 7616, RFC 2069) answers to them, and the checking side for the stand-ins.
package httpauth

import (
	"fmt"
	"slices"
	"strings"
)

// Limits on a hostile WWW-Authenticate line.
const (
	MaxLine   = 4096 // bytes; a longer one is not read
	maxParams = 32
)

// tooLong stands for the scheme of a line that is over MaxLine.
const tooLong = "a challenge too long to read"

// A Challenge is one scheme offered in a WWW-Authenticate line, with its parameters under lower-case names.
type Challenge struct {
	Scheme string // as "basic", "digest"; always lower case
	Params map[string]string
}

// Realm returns the protection space that the server names (RFC 9110 §11.5).
func (c Challenge) Realm() string { return c.Params["realm"] }

// Stale reports that only the nonce was too old and the sign-in itself was right (RFC 7616 §3.3).
func (c Challenge) Stale() bool { return strings.EqualFold(c.Params["stale"], "true") }

// Algorithm returns the digest algorithm in upper case; MD5 where none is named.
func (c Challenge) Algorithm() string {
	if a := strings.ToUpper(c.Params["algorithm"]); a != "" {
		return a
	}
	return "MD5"
}

// Name returns the scheme as a person reads it: "basic", "digest MD5", "digest SHA-256".
func (c Challenge) Name() string {
	if c.Scheme == "digest" {
		return "digest " + strings.TrimSuffix(c.Algorithm(), "-SESS")
	}
	return c.Scheme
}

// ParseChallenges reads the values of all WWW-Authenticate lines of an answer. One line may hold several
// challenges parted by commas (RFC 9110 §11.6.1), and many devices send one line a scheme. What cannot be
// read is left out; a line over MaxLine is told by its scheme alone.
func ParseChallenges(lines []string) []Challenge {
	var out []Challenge
	for _, line := range lines {
		if len(line) > MaxLine {
			out = append(out, Challenge{Scheme: tooLong, Params: map[string]string{}})
			continue
		}
		out = append(out, parseLine(line)...)
		if len(out) > 16 {
			return out[:16]
		}
	}
	return out
}

func parseLine(line string) []Challenge {
	var out []Challenge
	rest := line
	for {
		rest = strings.TrimLeft(rest, " \t,")
		if rest == "" {
			return out
		}
		word := token(rest)
		if word == "" {
			return out
		}
		after := strings.TrimLeft(rest[len(word):], " \t")
		if strings.HasPrefix(after, "=") && len(out) > 0 {
			// name = value: a parameter of the challenge at hand.
			value, left := paramValue(strings.TrimLeft(after[1:], " \t"))
			params := out[len(out)-1].Params
			name := strings.ToLower(word)
			if _, twice := params[name]; !twice && len(params) < maxParams {
				params[name] = value
			}
			rest = left
			continue
		}
		out = append(out, Challenge{Scheme: strings.ToLower(word), Params: map[string]string{}})
		rest = after
		if strings.HasPrefix(after, "=") {
			return out[:len(out)-1]
		}
	}
}

func token(s string) string {
	for i, r := range s {
		if r <= ' ' || r >= 0x7f || strings.ContainsRune(`()<>@,;:\"/[]?={}`, r) {
			return s[:i]
		}
	}
	return s
}

// paramValue reads a quoted string with its escapes, or a bare word, and returns what follows it. Devices leave the
// closing quote out now and then: the value then runs to the end.
func paramValue(s string) (value, rest string) {
	if !strings.HasPrefix(s, `"`) {
		end := strings.IndexAny(s, ", \t")
		if end < 0 {
			end = len(s)
		}
		return s[:end], s[end:]
	}
	var b strings.Builder
	for i := 1; i < len(s); i++ {
		switch s[i] {
		case '"':
			return b.String(), s[i+1:]
		case '\\':
			if i+1 < len(s) {
				i++
			}
		}
		b.WriteByte(s[i])
	}
	return b.String(), ""
}

// Choose picks the strongest challenge that this package can answer: digest SHA-256, digest MD5, basic.
func Choose(offered []Challenge) (Challenge, error) {
	best, rank := Challenge{}, 0
	for _, c := range offered {
		r := 0
		switch {
		case c.Scheme == "digest" && c.Params["nonce"] == "": // no answer to it can be right (RFC 7616 §3.3)
		case c.Scheme == "digest" && strings.TrimSuffix(c.Algorithm(), "-SESS") == "SHA-256":
			r = 3
		case c.Scheme == "digest" && strings.TrimSuffix(c.Algorithm(), "-SESS") == "MD5":
			r = 2
		case c.Scheme == "basic":
			r = 1
		}
		if r > rank {
			best, rank = c, r
		}
	}
	if rank == 0 {
		return best, &UnknownSchemeError{Offered: names(offered), TooLong: slices.ContainsFunc(offered,
			func(c Challenge) bool { return c.Scheme == tooLong })}
	}
	return best, nil
}

// An UnknownSchemeError lists what a server offered when none of it can be answered.
type UnknownSchemeError struct {
	Offered []string
	TooLong bool // a challenge was over MaxLine and was not read
}

func (e *UnknownSchemeError) Error() string {
	if e.TooLong {
		return fmt.Sprintf("the device's challenge (WWW-Authenticate) is over %d kB long", MaxLine>>10)
	}
	if len(e.Offered) == 0 {
		return "the device refuses without saying how to sign in (no WWW-Authenticate line)"
	}
	return fmt.Sprintf("the device offers only sign-in schemes that are not known here: %s", strings.Join(e.Offered, ", "))
}

func names(offered []Challenge) (out []string) {
	for _, c := range offered {
		out = append(out, c.Name())
	}
	return out
}
