package streamurl

import (
	"html"
	"net/netip"
	"net/url"
	"regexp"
	"strconv"
	"strings"
	"unicode"

	"unlatch/core/signin"
)

// A Fault names one kind of damage that a copied URL comes with.
type Fault string

const (
	Quotes      Fault = "quotes"       // quotes or brackets around the whole
	Blanks      Fault = "blanks"       // blanks, line feeds and invisible characters in it
	Entities    Fault = "entities"     // &amp; and its like, from a web page's source
	Backslashes Fault = "backslashes"  // \ where / belongs
	SchemeTwice Fault = "scheme_twice" // rtsp://rtsp://
	SchemeTypo  Fault = "scheme_typo"  // rtsp:/, rstp://, RTSP
	NoScheme    Fault = "no_scheme"    // begins with the address
	HTTPScheme  Fault = "http_scheme"  // http where the port is a stream port
	SignInTwice Fault = "sign_in_twice"
	Reserved    Fault = "reserved"    // characters in the password that must be percent-encoded
	Placeholder Fault = "placeholder" // <user>, [port], {ip} left in
	Brackets    Fault = "brackets"    // brackets left around a real value
	WebPort     Fault = "web_port"    // the web port where the stream port belongs
	Slashes     Fault = "slashes"     // // at the beginning of the path
	Multicast   Fault = "multicast"   // a query that asks for multicast, which few networks carry
	Case        Fault = "case"        // capitals that no recipe has: found by the path books
)

// A Finding is one fault with what it becomes. Its words never hold a sign-in.
type Finding struct {
	Fault   Fault  `json:"fault"`
	Problem string `json:"problem"`
	Becomes string `json:"becomes"`
}

// A Repaired is one pasted URL. Problem says why it cannot be read, where it cannot; then nothing of it is lost: it stays as it was given.
type Repaired struct {
	Line     int       `json:"line" doc:"counted from 1"`
	URL      URL       `json:"-"`
	OK       bool      `json:"ok"`
	Findings []Finding `json:"findings"`
	Problem  string    `json:"problem,omitempty"`
	Remedy   string    `json:"remedy,omitempty"`
}

// Limits of a paste.
const (
	MaxLines  = 10000
	maxPasted = 4096 // of one URL
)

// Repair reads a damaged URL. Faults in skip are left as they are.
func Repair(text string, skip ...Fault) Repaired {
	r := repairer{skip: map[Fault]bool{}, found: []Finding{}}
	for _, f := range skip {
		r.skip[f] = true
	}
	out := Repaired{Line: 1, Findings: r.found}
	if len(text) > maxPasted {
		out.Problem, out.Remedy = "it is longer than 4096 characters", "paste the URL alone"
		return out
	}
	r.text = text
	for _, step := range []func(*repairer){(*repairer).quotes, (*repairer).blanks, (*repairer).entities, (*repairer).scheme, (*repairer).backslashes, (*repairer).placeholders, (*repairer).signIn, (*repairer).ports, (*repairer).path} {
		step(&r)
	}
	out.Findings = r.found
	if r.problem != "" {
		out.Problem, out.Remedy = r.problem, r.remedy
		return out
	}
	u, err := Parse(r.text)
	if err != nil {
		if syntax, ok := err.(*SyntaxError); ok {
			out.Problem, out.Remedy = syntax.Problem, syntax.Remedy
		} else {
			out.Problem = err.Error()
		}
		return out
	}
	if !hostName.MatchString(u.Host) {
		out.Problem, out.Remedy = "the address holds characters that no address has", "type it like rtsp://192.0.2.20/path"
		return out
	}
	if r.user != "" || r.secret != "" {
		u.SignIn = signin.SignIn{User: r.user, Secret: signin.NewSecret(r.secret)}
	}
	out.URL, out.OK = u, true
	return out
}

var hostName = regexp.MustCompile(`^[\pL\pN._:%-]+$`)

// urlish is a piece of a line that is meant as a URL: it has a scheme, or begins with an address and a path or a port.
var urlish = regexp.MustCompile(`(?i)(?:\b(?:rtsps?|rstp|rtps|https?)\s*:?\s*[/\\]{1,3}|\b(?:\d{1,3}\.){3}\d{1,3}(?::\d+)?[/\\])\S*(?:\s*[:@/]\s*\S+)*`)

// RepairAll finds the URLs in a page of notes, at most one a line, and repairs each. Lines without one are passed over.
func RepairAll(text string, skip ...Fault) []Repaired {
	var out []Repaired
	line := 0
	for l := range strings.Lines(text) {
		if line++; line > MaxLines {
			break
		}
		if len(l) > maxPasted {
			l = l[:maxPasted]
		}
		if m := urlish.FindString(l); m != "" {
			r := Repair(m, skip...)
			r.Line = line
			out = append(out, r)
		}
	}
	return out
}

type repairer struct {
	text            string // the part before the sign-in is taken out, or all of it
	user, secret    string // once they were taken out
	skip            map[Fault]bool
	found           []Finding
	problem, remedy string
}

// note records a fault unless it is to be left; it reports whether to mend it.
func (r *repairer) note(f Fault, problem, becomes string) bool {
	if r.skip[f] {
		return false
	}
	r.found = append(r.found, Finding{f, problem, becomes})
	return true
}

const around = "\"'`“”„‟‘’‚«»‹›"

func (r *repairer) quotes() {
	bare := strings.Trim(r.text, around+" \t\r\n,;")
	if strings.HasPrefix(bare, "<") && strings.HasSuffix(bare, ">") && strings.Count(bare, "<") == 1 {
		bare = strings.Trim(bare, "<>")
	}
	if strings.HasPrefix(bare, "[") && strings.HasSuffix(bare, "]") && strings.Contains(bare, "://") {
		bare = bare[1 : len(bare)-1]
	}
	if bare != strings.TrimSpace(r.text) && r.note(Quotes, "quotes or brackets stand around the URL", "they are left out") {
		r.text = bare
	}
	r.text = strings.TrimSpace(r.text)
}

func (r *repairer) blanks() {
	r.text = strings.ToValidUTF8(r.text, "")
	bare := strings.Map(func(c rune) rune {
		if unicode.IsSpace(c) || unicode.Is(unicode.Cf, c) || unicode.IsControl(c) {
			return -1
		}
		return c
	}, r.text)
	if bare != r.text && r.note(Blanks, "blanks or invisible characters stand in the URL", "they are taken out") {
		r.text = bare
	}
}

func (r *repairer) entities() {
	if !strings.Contains(r.text, "&") || !strings.Contains(r.text, ";") {
		return
	}
	bare := entity.ReplaceAllStringFunc(r.text, html.UnescapeString)
	if bare != r.text && r.note(Entities, "it was copied from a web page's source: &amp; stands where & belongs", "&") {
		r.text = bare
	}
}

var (
	entity  = regexp.MustCompile(`&(?:amp|lt|gt|quot|apos|#\d{1,5}|#x[0-9a-fA-F]{1,4});`)
	begins  = regexp.MustCompile(`^(?i)(rtsps|rtsp|rstps|rstp|rtps|rtp|https|http|hxxp|ttp|tsp)\s*(:?)([/\\]{1,4})`)
	address = regexp.MustCompile(`^[A-Za-z0-9.\-\[\]:]+`)
)

var spelled = map[string]string{"rtsps": "rtsps", "rstps": "rtsps", "rtsp": "rtsp", "rstp": "rtsp", "rtps": "rtsp", "rtp": "rtsp", "tsp": "rtsp", "http": "http", "hxxp": "http", "ttp": "http", "https": "https"}

func (r *repairer) scheme() {
	m := begins.FindStringSubmatch(r.text)
	if m == nil {
		if !strings.Contains(r.text, "://") && strings.ContainsAny(r.text, `./:\`) && r.note(NoScheme, "the scheme is missing", "rtsp://") {
			r.text = "rtsp://" + strings.TrimLeft(r.text, `/\:`)
		}
		return
	}
	scheme := spelled[strings.ToLower(m[1])]
	rest := r.text[len(m[0]):]
	if m[0] != scheme+"://" {
		if strings.EqualFold(m[0], scheme+"://") || r.note(SchemeTypo, "the scheme is spelled "+m[0], scheme+"://") {
			r.text = scheme + "://" + rest
		}
	}
	// The last of several schemes is the one that stands before the address.
	for {
		again := begins.FindStringSubmatch(rest)
		if again == nil || again[2] == "" && (!strings.EqualFold(again[1], m[1]) || len(again[3]) < 2) {
			break
		}
		if !r.note(SchemeTwice, "the scheme stands twice", spelled[strings.ToLower(again[1])]+"://") {
			return
		}
		scheme, rest = spelled[strings.ToLower(again[1])], rest[len(again[0]):]
		r.text = scheme + "://" + rest
	}
}

// parts cuts the text into scheme and the rest behind "://".
func (r *repairer) parts() (scheme, rest string, ok bool) { return strings.Cut(r.text, "://") }

func (r *repairer) backslashes() {
	scheme, rest, ok := r.parts()
	if !ok || !strings.Contains(rest, `\`) {
		return
	}
	// A password may hold one: only what stands behind the address is a path.
	head := rest[:strings.LastIndex(rest, "@")+1]
	tail := rest[len(head):]
	if fixed := strings.ReplaceAll(tail, `\`, "/"); fixed != tail && r.note(Backslashes, `\ stands where / belongs`, "/") {
		r.text = scheme + "://" + head + fixed
	}
}

// words that stand for a value which somebody should have put in.
var holder = regexp.MustCompile(`(?i)[<{\[(]\s*(user(?:name)?|login|pass(?:word|wd)?|pw|ip|ip[-_ ]?addr(?:ess)?|address|host(?:name)?|camera[-_ ]?ip|port|rtsp[-_ ]?port|channel|ch|stream|n|x)\s*[>}\])]`)

func (r *repairer) placeholders() {
	scheme, rest, ok := r.parts()
	if !ok {
		return
	}
	at := strings.LastIndex(rest, "@")
	head, tail := rest[:at+1], rest[at+1:]
	if holder.MatchString(head) && r.note(Placeholder, "a placeholder stands where the sign-in belongs", "left out: the keyring has the sign-in") {
		head = ""
	}
	end := strings.IndexAny(tail, "/?")
	if end < 0 {
		end = len(tail)
	}
	host, path := tail[:end], tail[end:]
	if m := holder.FindStringIndex(host); m != nil {
		if strings.HasSuffix(host[:m[0]], ":") {
			if r.note(Placeholder, "a placeholder stands where the port belongs", "left out: the usual port") {
				host = strings.TrimSuffix(host[:m[0]], ":") + host[m[1]:]
			}
		} else {
			r.problem, r.remedy = "a placeholder stands where the address belongs", "put the camera's address in its place"
		}
	}
	// Brackets around a real IPv4 address or name are left from a manual.
	bare := strings.NewReplacer("<", "", ">", "", "{", "", "}", "", "(", "", ")", "").Replace(host)
	if inner := strings.NewReplacer("[", "", "]", "").Replace(bare); strings.Count(inner, ":") < 2 {
		bare = inner
	}
	if bare != host && r.problem == "" && r.note(Brackets, "brackets stand around the address", bare) {
		host = bare
	}
	if m := holder.FindString(path); m != "" && r.problem == "" {
		r.problem, r.remedy = "the placeholder "+m+" stands in the path", "put the value in its place"
	}
	r.text = scheme + "://" + head + host + path
}

// signIn finds where the sign-in ends. A password may hold every character that would end it: the last @ that is followed by an address decides.
func (r *repairer) signIn() {
	scheme, rest, ok := r.parts()
	if !ok || r.problem != "" {
		return
	}
	at := lastSignIn(rest)
	if at < 0 {
		return
	}
	given, tail := rest[:at], rest[at+1:]
	if first, twice := cutTwice(given); twice && r.note(SignInTwice, "the sign-in stands twice", "once") {
		given = first
	}
	user, secret, _ := strings.Cut(given, ":")
	if strings.ContainsAny(given, "/?#[]@\\ ") || strings.Count(given, ":") > 1 || strings.Contains(given, "%") && badPercent(given) || strings.ContainsFunc(given, func(c rune) bool { return c > '~' }) {
		r.note(Reserved, "the password holds characters that mean something in a URL", "percent-encoded")
	}
	r.user, r.secret = bracketless(unescape(user)), bracketless(unescape(secret))
	r.text = scheme + "://" + tail
}

// lastSignIn is where the @ stands that ends the sign-in, or -1.
func lastSignIn(rest string) int {
	for at := strings.LastIndex(rest, "@"); at >= 0; at = strings.LastIndex(rest[:at], "@") {
		host := address.FindString(rest[at+1:])
		end := len(rest[at+1:]) == len(host) || strings.IndexByte("/?", rest[at+1+len(host)]) >= 0
		before := rest[:at]
		slash := strings.IndexAny(before, "/?")
		// An @ behind a path belongs to the path, unless what stands before the path is no address but a user and the beginning of a password.
		if host != "" && end && (slash < 0 || looksLikeSignIn(before[:slash])) {
			return at
		}
	}
	return -1
}

// looksLikeSignIn tells "user:begin-of-password" from "host:port".
func looksLikeSignIn(s string) bool {
	user, rest, ok := strings.Cut(s, ":")
	if !ok || rest == "" {
		return false
	}
	if at := strings.LastIndex(s, "@"); at >= 0 { // the sign-in has ended before already
		if _, _, err := splitHostPort(s[at+1:]); err == nil {
			return false
		}
	}
	if _, err := netip.ParseAddr(user); err == nil {
		return false
	}
	_, err := strconv.Atoi(rest)
	return err != nil
}

// cutTwice finds u:p@u:p.
func cutTwice(given string) (first string, ok bool) {
	for i := 0; i < len(given); i++ {
		if given[i] == '@' && given[:i] == given[i+1:] {
			return given[:i], true
		}
	}
	return "", false
}

func badPercent(s string) bool {
	_, err := url.PathUnescape(s)
	return err != nil
}

// bracketless takes the brackets of a manual off a real value.
func bracketless(s string) string {
	for _, pair := range []string{"<>", "[]", "{}"} {
		if len(s) > 2 && s[0] == pair[0] && s[len(s)-1] == pair[1] {
			return s[1 : len(s)-1]
		}
	}
	return s
}

// Ports that are the web's, and those on which streams mostly are.
var (
	webPorts    = map[int]bool{80: true, 443: true, 8080: true, 8443: true, 81: true}
	streamPorts = map[int]bool{554: true, 8554: true, 10554: true, 7554: true, 322: true}
)

func (r *repairer) ports() {
	u, err := Parse(r.text)
	if err != nil || r.problem != "" {
		return
	}
	u.SignIn = signin.SignIn{}
	switch {
	case u.Scheme == "http" && streamPorts[u.Port] && r.note(HTTPScheme, "http stands before a stream port", "rtsp://"):
		u.Scheme = "rtsp"
	case strings.HasPrefix(u.Scheme, "rtsp") && webPorts[u.Port] && r.note(WebPort, "port "+strconv.Itoa(u.Port)+" is a web port; the stream port belongs there", "left out: "+strconv.Itoa(defaultPorts[u.Scheme])+", or the one that the device names"):
		u.Port = 0
	default:
		return
	}
	r.text = u.String()
}

// askGroup is a query part by which a URL asks for multicast.
var askGroup = regexp.MustCompile(`(?i)&(?:(?:proto|protocol|transport|transmission|cast|mode)=multicast|multicast(?:=(?:1|true|yes|on))?)&`)

func (r *repairer) path() {
	u, err := Parse(r.text)
	if err != nil || r.problem != "" {
		return
	}
	if m := askGroup.FindString("&" + u.Query + "&"); m != "" && r.note(Multicast, "it asks for multicast, which reaches a viewer only where every switch on the way carries it", "left out: the device sends to the viewer alone") {
		left := strings.Trim(strings.Replace("&"+u.Query+"&", m, "&", 1), "&")
		u.Query = left
		r.text = u.String()
	}
	if strings.HasPrefix(u.Path, "//") && r.note(Slashes, "the path begins with more than one /", "/") {
		u.Path = "/" + strings.TrimLeft(u.Path, "/")
		r.text = u.String()
	}
}
