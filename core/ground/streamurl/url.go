// Package streamurl takes stream URLs apart and puts them together again without losing anything: case, order of
// the query and odd characters stay as the device wants them (RFC 3986), and the sign-in is kept out of sight.
package streamurl

import (
	"fmt"
	"net"
	"net/netip"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"unlatch/core/ground/redact"
	"unlatch/core/ground/signin"
)

// A URL is a stream URL in parts. Path begins with "/" or is empty, Query has no "?"; both are exactly as given.
type URL struct {
	Scheme string // lower case: rtsp, rtsps, http, https, udp, rtp
	SignIn signin.SignIn
	Host   string // address or name, without brackets
	Port   int    // 0 where none was written
	Path   string
	Query  string
	// Source is, of a stream that comes in datagrams, the address of the sender that alone is listened to; "" for anybody.
	Source string
}

// RTSP reports whether the stream is asked for by RTSP.
func (u URL) RTSP() bool { return u.Scheme == "rtsp" || u.Scheme == "rtsps" }

// HTTP reports whether the stream is asked for by HTTP.
func (u URL) HTTP() bool { return u.Scheme == "http" || u.Scheme == "https" }

// Datagrams reports whether the stream comes in datagrams that nobody is asked for: to a group, or to this machine.
func (u URL) Datagrams() bool { return u.Scheme == "udp" || u.Scheme == "rtp" }

// A SyntaxError says why a text is no stream URL, without repeating it: it may hold a password.
type SyntaxError struct{ Problem, Fix string }

func (e *SyntaxError) Error() string {
	return "this is not a stream URL: " + e.Problem + "; " + e.Fix
}

var defaultPorts = map[string]int{"rtsp": 554, "rtsps": 322, "http": 80, "https": 443}

// DefaultPort returns the usual port of a scheme, 0 where it has none.
func DefaultPort(scheme string) int { return defaultPorts[scheme] }

// Parse reads a URL. The sign-in ends at the last "@" before the path, so that an unescaped "@" in a password does no harm. A stream in
// datagrams is written udp://@239.1.2.4:20000, or rtp:// for the same within RTP: an address before the @ names the sender that alone is
// listened to, and none behind it stands for any address of this machine.
func Parse(text string) (URL, error) {
	text = strings.TrimSpace(text)
	if len(text) > 4096 {
		return URL{}, &SyntaxError{"it is longer than 4096 characters", "copy the URL alone"}
	}
	scheme, rest, ok := strings.Cut(text, "://")
	u := URL{Scheme: strings.ToLower(scheme)}
	if ok && u.Datagrams() {
		return u, u.parseDatagrams(rest)
	}
	if _, known := defaultPorts[u.Scheme]; !ok || !known {
		return URL{}, &SyntaxError{"it does not begin with rtsp:// or rtsps://", "type it like rtsp://192.0.2.20/path"}
	}
	end := strings.IndexAny(rest, "/?")
	if end < 0 {
		end = len(rest)
	}
	if at := strings.LastIndex(rest[:end], "@"); at >= 0 {
		user, secret, _ := strings.Cut(rest[:at], ":")
		u.SignIn = signin.SignIn{User: unescape(user), Secret: signin.NewSecret(unescape(secret))}
		rest, end = rest[at+1:], end-at-1
	}
	var err error
	if u.Host, u.Port, err = splitHostPort(rest[:end]); err != nil {
		return URL{}, err
	}
	u.Path, u.Query, _ = strings.Cut(rest[end:], "?")
	if strings.ContainsAny(u.Path+u.Query, " \t\r\n") {
		return URL{}, &SyntaxError{"its path holds a blank", "write %20 for a blank, or take it out"}
	}
	return u, nil
}

func (u *URL) parseDatagrams(rest string) (err error) {
	const fix = "write it like udp://@239.1.2.4:20000"
	rest = strings.TrimSuffix(rest, "/")
	if len(rest) > 300 || strings.ContainsAny(rest, "/?# ") {
		return &SyntaxError{"a stream in datagrams has no path", fix}
	}
	if source, at, ok := strings.Cut(rest, "@"); ok {
		if _, err := netip.ParseAddr(source); source != "" && err != nil {
			return &SyntaxError{"what stands before the @ is no address in numbers", "name the sender like udp://192.0.2.7@239.1.2.4:20000"}
		}
		u.Source, rest = source, at
	}
	if strings.HasPrefix(rest, ":") {
		rest = "0.0.0.0" + rest
	}
	if u.Host, u.Port, err = splitHostPort(rest); err == nil && u.Port == 0 {
		err = &SyntaxError{"it has no port", fix}
	}
	return err
}

func splitHostPort(s string) (string, int, error) {
	host, port := s, ""
	if i := strings.LastIndex(s, ":"); i > strings.LastIndex(s, "]") && (strings.Count(s, ":") == 1 || strings.HasPrefix(s, "[")) {
		host, port = s[:i], s[i+1:]
	}
	host = strings.TrimSuffix(strings.TrimPrefix(host, "["), "]")
	if host == "" || strings.ContainsAny(host, "[]<>{}\\\"' \t") {
		return "", 0, &SyntaxError{"the address is missing or unreadable", "type it like rtsp://192.0.2.20/path"}
	}
	if port == "" {
		return host, 0, nil
	}
	n, err := strconv.Atoi(port)
	if err != nil || n < 1 || n > 65535 {
		return "", 0, &SyntaxError{"the port is not a number from 1 to 65535", "leave it out for the usual port"}
	}
	return host, n, nil
}

func unescape(s string) string {
	if out, err := url.PathUnescape(s); err == nil {
		return out
	}
	return s
}

// DialPort returns the port to connect to: the scheme's usual one where none was written.
func (u URL) DialPort() int {
	if u.Port == 0 {
		return defaultPorts[u.Scheme]
	}
	return u.Port
}

// HostPort returns the address to connect to.
func (u URL) HostPort() string { return net.JoinHostPort(u.Host, strconv.Itoa(u.DialPort())) }

// String returns the URL without its sign-in: what goes on a request line, into logs and into evidence.
func (u URL) String() string { return u.Scheme + "://" + u.authority() + u.Target() }

// Redacted is String with the user name shown and the password hidden: what people see of a URL that carries a sign-in.
func (u URL) Redacted() string {
	if u.SignIn.Anonymous() {
		return u.String()
	}
	return u.Scheme + "://" + escape(u.SignIn.User) + ":" + u.SignIn.Secret.String() + "@" + u.authority() + u.Target()
}

// Reveal returns the whole URL with its sign-in percent-encoded (RFC 3986 §3.2.1), as targets want it. It holds the secret.
func (u URL) Reveal() string {
	if u.SignIn.Anonymous() {
		return u.String()
	}
	return u.Scheme + "://" + escape(u.SignIn.User) + ":" + escape(u.SignIn.Secret.Reveal()) + "@" + u.authority() + u.Target()
}

func (u URL) authority() string {
	host := u.Host
	if strings.Contains(host, ":") {
		host = "[" + host + "]"
	}
	if u.Port != 0 {
		host += ":" + strconv.Itoa(u.Port)
	}
	if u.Datagrams() {
		host = u.Source + "@" + host
	}
	return host
}

// Target is path and query as they stand in the URL: what a recipe makes.
func (u URL) Target() string {
	if u.Query == "" {
		return u.Path
	}
	return u.Path + "?" + u.Query
}

// DropSecrets takes the query parameters out that usually hold a password, and the user name beside one, and reports whether
// there were any. The others keep their order and spelling.
func (u *URL) DropSecrets() bool {
	if u.Query == "" {
		return false
	}
	name := func(p string) string { n, _, _ := strings.Cut(p, "="); return unescape(n) }
	parts := strings.Split(u.Query, "&")
	if !slices.ContainsFunc(parts, func(p string) bool { return redact.IsSecretName(name(p)) }) {
		return false
	}
	parts = slices.DeleteFunc(parts, func(p string) bool {
		return redact.IsSecretName(name(p)) || slices.Contains(userNames, strings.ToLower(name(p)))
	})
	u.Query = strings.Join(parts, "&")
	return true
}

// userNames are the query parameters that name the user whose password stands in another.
var userNames = []string{"user", "username", "usr", "login", "loginuse", "account"}

// escape percent-encodes everything but the unreserved characters of RFC 3986 §2.3.
func escape(s string) string {
	var b strings.Builder
	for i := 0; i < len(s); i++ {
		c := s[i]
		if c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || strings.IndexByte("-._~", c) >= 0 {
			b.WriteByte(c)
		} else {
			fmt.Fprintf(&b, "%%%02X", c)
		}
	}
	return b.String()
}

// A Segment is one labelled part of a URL, for showing.
type Segment struct {
	Part      string `json:"part" enum:"scheme,sign-in,host,port,path,query"`
	Text      string `json:"text"`
	Confirmed bool   `json:"confirmed" doc:"the part is proven by an answer rather than taken as usual"`
	Source    string `json:"source" doc:"where the part comes from"`
}

// Segments labels the parts of u. source says where the URL came from, proven that it was played; signIn names the
// keyring entry that opened it.
func (u URL) Segments(source string, proven bool, signIn string) []Segment {
	out := []Segment{{"scheme", u.Scheme, proven, source}}
	if signIn != "" {
		out = append(out, Segment{"sign-in", signIn, proven, "keyring"})
	}
	out = append(out, Segment{"host", u.Host, proven, source})
	if u.Datagrams() {
		return append(out, Segment{"port", strconv.Itoa(u.Port), proven, source})
	}
	if u.Port != 0 {
		out = append(out, Segment{"port", strconv.Itoa(u.Port), proven, source})
	} else {
		out = append(out, Segment{"port", strconv.Itoa(defaultPorts[u.Scheme]), proven, "usual for " + u.Scheme})
	}
	out = append(out, Segment{"path", u.Path, proven, source})
	if u.Query != "" {
		out = append(out, Segment{"query", u.Query, proven, source})
	}
	return out
}
