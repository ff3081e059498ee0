package streamurl

import (
	"net/netip"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// signIn takes the sign-in out, where weigh finds that it ends.
func (r *repairer) signIn() {
	scheme, rest, ok := r.parts()
	if !ok || r.problem != "" {
		return
	}
	at, alike := r.weigh(rest)
	if len(alike) > 0 {
		r.problem, r.fix, r.hosts = "which @ ends the sign-in cannot be told: the address may be "+strings.Join(alike,
			" or "), "choose the address that is meant", alike
		return
	}
	if at < 0 {
		return
	}
	given, tail := rest[:at], rest[at+1:]
	if first, twice := cutTwice(given); twice && r.note(SignInTwice, "the sign-in stands twice", "once") {
		given = first
	}
	user, secret, _ := strings.Cut(given, ":")
	if strings.ContainsAny(given, "/?#[]@\\ ") || strings.Count(given, ":") > 1 || strings.Contains(given,
		"%") && badPercent(given) || strings.ContainsFunc(given, func(c rune) bool { return c > '~' }) {
		r.note(Reserved, "the password holds characters that mean something in a URL", "percent-encoded")
	}
	r.user, r.secret = bracketless(unescape(user)), bracketless(unescape(secret))
	r.text = scheme + "://" + tail
}

// A reading is one way to part a URL: the sign-in ends at an @, or there is none.
type reading struct {
	at    int // of the @; -1 for no sign-in
	host  string
	score int
}

// weigh finds where the @ stands that ends the sign-in, or -1. A password may hold every character that would end it, and a path
// may hold an @, so all readings are weighed: whether the host is an address, and one of the site; whether a port and a path
// follow; whether what stands before is a user and a password. Two readings that weigh the same are returned as alike, by their
// hosts.
func (r *repairer) weigh(rest string) (at int, alike []string) {
	var all []reading
	for i := -1; i < len(rest); {
		if i < 0 || rest[i] == '@' {
			if one, ok := r.read(rest, i); ok {
				all = append(all, one)
			}
		}
		next := strings.IndexByte(rest[i+1:], '@')
		if next < 0 {
			break
		}
		i += 1 + next
	}
	if len(all) == 0 {
		return -1, nil
	}
	best := all[0]
	for _, x := range all[1:] {
		if x.score > best.score {
			best = x
		}
	}
	for _, x := range all {
		if x.score == best.score && !slices.Contains(alike, x.host) {
			alike = append(alike, x.host)
		}
	}
	if len(alike) > 1 {
		return best.at, alike
	}
	return best.at, nil
}

// read weighs one reading; ok is false where it cannot be: what follows the @ is no host.
func (r *repairer) read(rest string, at int) (x reading, ok bool) {
	before, after := "", rest
	if at >= 0 {
		before, after = rest[:at], rest[at+1:]
	}
	text := address.FindString(after)
	end := len(text) == len(after) || strings.IndexByte("/?", after[len(text)]) >= 0
	if text == "" || !end || at < 0 && strings.Contains(after[:len(text)], "@") {
		return x, false
	}
	host, port, err := splitHostPort(text)
	if err != nil {
		host = text // a port that is written twice, or no port: mended later
	}
	x = reading{at: at, host: host}
	if r.chosen != "" && host == r.chosen {
		x.score += 100
	}
	a, aerr := netip.ParseAddr(host)
	switch {
	case aerr == nil && r.site != nil && r.site(a):
		x.score += 9
	case aerr == nil:
		x.score += 6
	case dotted.MatchString(host):
		x.score += 4 // most likely an address with a typing mistake
	case strings.Contains(host, "."):
		x.score += 3
	}
	if port > 0 {
		x.score++
	}
	if at < 0 {
		// No sign-in: then an @ further on belongs to the path. A "host" that has a colon and no port is a user and the beginning of a password.
		if strings.Contains(text, ":") && err != nil || looksLikeSignIn(text) {
			x.score -= 6
		}
		return x, true
	}
	user, secret, pair := strings.Cut(before, ":")
	switch {
	case pair && user != "" && secret != "" && !strings.ContainsAny(before, "/?"):
		x.score += 3 // a whole sign-in, and nothing odd in it
	case pair && user != "" && !strings.ContainsAny(user, "/?@"):
		x.score++
	case strings.ContainsAny(before, "/?"):
		x.score -= 3 // what stands before has a path already
	}
	if strings.Contains(before, "@") {
		x.score-- // a sign-in may have ended before
	}
	return x, true
}

// dotted is four parts like those of an IPv4 address, with what is typed in place of a digit or a dot.
var dotted = regexp.MustCompile(`^[0-9lIoO]{1,3}([.,][0-9lIoO]{1,3}){3}$`)

// looksLikeSignIn tells "user:begin-of-password" from "host:port".
func looksLikeSignIn(s string) bool {
	user, rest, ok := strings.Cut(s, ":")
	if !ok || rest == "" {
		return false
	}
	if _, err := netip.ParseAddr(user); err == nil {
		return false
	}
	_, err := strconv.Atoi(rest)
	return err != nil && strings.Count(s, ":") == 1
}

// host mends the address: a port that stands twice, letters that look like digits, commas for dots.
func (r *repairer) host() {
	scheme, rest, ok := r.parts()
	if !ok || r.problem != "" {
		return
	}
	end := strings.IndexAny(rest, "/?")
	if end < 0 {
		end = len(rest)
	}
	host, tail := rest[:end], rest[end:]
	if m := twoPorts.FindStringSubmatch(host); m != nil {
		switch {
		case m[2] != m[3]:
			r.problem, r.fix = "two ports stand behind the address, "+m[2]+" and "+m[3], "leave the one that is right"
			return
		case r.note(PortTwice, "the port stands twice", m[2]):
			host = m[1] + ":" + m[2]
		}
	}
	name, port, _ := strings.Cut(host, ":")
	if strings.HasPrefix(host, "[") || strings.Count(host, ":") > 1 {
		name, port = host, ""
	}
	if dotted.MatchString(name) {
		fixed := strings.NewReplacer(",", ".", "l", "1", "I", "1", "o", "0", "O", "0").Replace(name)
		if _, err := netip.ParseAddr(fixed); err != nil {
			r.problem, r.fix = name+" is no address: each of its four parts goes from 0 to 255", "correct it"
			return
		}
		if fixed != name && r.note(Typo, "letters or commas stand in the address where digits or dots belong", fixed) {
			name = fixed
		}
	} else if numbers.MatchString(name) {
		r.problem, r.fix = name+" is no address: it needs four parts from 0 to 255", "type it like 192.0.2.20"
		return
	}
	if port != "" {
		name += ":" + port
	}
	r.text = scheme + "://" + name + tail
}
