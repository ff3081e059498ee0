package streamurl

import (
	"html"
	"net/netip"
	"net/url"
	"regexp"
	"strconv"
	"strings"
	"unicode"

	"unlatch/core/ground/signin"
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
	Reserved    Fault = "reserved"     // characters in the password that must be percent-encoded
	Placeholder Fault = "placeholder"  // <user>, [port], {ip} left in
	Brackets    Fault = "brackets"     // brackets left around a real value
	WebPort     Fault = "web_port"     // the web port where the stream port belongs
	Slashes     Fault = "slashes"      // // at the beginning of the path
	Multicast   Fault = "multicast"    // a query that asks for multicast, which few networks carry
	Case        Fault = "case"         // capitals that no recipe has: found by the path books
	PortTwice   Fault = "port_twice"   // host:554:554
	Typo        Fault = "typo"         // l and O for digits, commas for dots in an address
	Stop        Fault = "stop"         // a full stop or a comma behind the URL
	Words       Fault = "words"        // words behind the URL
	SecretBlank Fault = "secret_blank" // a blank in the password
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
	Fix      string    `json:"remedy,omitempty"`
	// Hosts are the addresses between which a person has to choose, where two readings of the URL are alike: which @ ends the sign-in
	// cannot be told from the text.
	Hosts []string `json:"hosts,omitempty"`
}

// Options of a repair.
type Options struct {
	Skip []Fault // faults that are left as they are
	// Site reports whether an address is of the site that the URL is pasted for; nil for not known. A reading whose host is goes before
	// one whose host is not.
	Site func(netip.Addr) bool
	// Host is the address that a person has chosen between two alike readings.
	Host string
}

// Limits of a paste.
const (
	MaxLines  = 10000
	maxPasted = 4096 // of one URL
)

// Repair reads a damaged URL. Faults in skip are left as they are.
func Repair(text string, skip ...Fault) Repaired { return RepairWith(text, Options{Skip: skip}) }

// RepairWith is Repair with what else is known.
func RepairWith(text string, o Options) Repaired {
	r := repairer{skip: map[Fault]bool{}, found: []Finding{}, site: o.Site, chosen: o.Host}
	for _, f := range o.Skip {
		r.skip[f] = true
	}
	out := Repaired{Line: 1, Findings: r.found}
	if len(text) > maxPasted {
		out.Problem, out.Fix = "it is longer than 4096 characters", "paste the URL alone"
		return out
	}
	r.text = text
	for _, step := range []func(*repairer){(*repairer).quotes, (*repairer).words, (*repairer).entities, (*repairer).scheme,
		(*repairer).blanks, (*repairer).backslashes, (*repairer).placeholders, (*repairer).signIn, (*repairer).host, (*repairer).ports,
		(*repairer).path} {
		if step(&r); r.whole {
			break
		}
	}
	out.Findings = r.found
	if r.problem != "" {
		out.Problem, out.Fix, out.Hosts = r.problem, r.fix, r.hosts
		return out
	}
	u, err := Parse(r.text)
	if err != nil {
		if syntax, ok := err.(*SyntaxError); ok {
			out.Problem, out.Fix = syntax.Problem, syntax.Fix
		} else {
			out.Problem = err.Error()
		}
		return out
	}
	if !hostName.MatchString(u.Host) {
		out.Problem, out.Fix = "the address holds characters that no address has", "type it like rtsp://192.0.2.20/path"
		return out
	}
	if r.user != "" || r.secret != "" {
		u.SignIn = signin.SignIn{User: r.user, Secret: signin.NewSecret(r.secret)}
	}
	out.URL, out.OK = u, true
	return out
}

var hostName = regexp.MustCompile(`^[\pL\pN._:%-]+$`)

// urlish is a piece of a line that is meant as a URL: it has a scheme, or begins with an address and a path or a port. A sign-in may hold a
// few blanks where an address follows it.
var urlish = regexp.MustCompile(`(?i)(?:\b(?:rtsps?|rstp|rtps|https?|udp|` +
	`rtp)\s*:?\s*[/\\]{1,3}(?:[^\s/@:]+:[^\s@/]*(?:[ \t]+[^\s@/]+){1,3}@\[?\d)?|` +
	`\b(?:\d{1,3}[.,]){3}\d{1,3}(?::\d+)?[/\\])\S*(?:\s*[:@/]\s*\S+)*`)

// opens is where a URL begins with its scheme.
var opens = regexp.MustCompile(`(?i)(?:rtsps?|rstp|rtps|https?|udp|rtp)\s*:\s*[/\\]{2}`)

// RepairAll finds the URLs in a page of notes, several to a line where they are, and repairs each. Lines without one are passed over;
// Without tells how many there are.
func RepairAll(text string, skip ...Fault) []Repaired {
	return RepairAllWith(text, Options{Skip: skip})
}

// RepairAllWith is RepairAll with what else is known.
func RepairAllWith(text string, o Options) []Repaired {
	var out []Repaired
	line := 0
	for l := range strings.Lines(text) {
		if line++; line > MaxLines {
			break
		}
		for _, piece := range pieces(l[:min(len(l), maxPasted)]) {
			m := urlish.FindString(piece)
			if m == "" {
				continue
			}
			r := RepairWith(m, o)
			r.Line = line
			if rest := strings.TrimSpace(strings.Replace(piece, m, "", 1)); r.OK && len(strings.Fields(strings.Trim(rest,
				around+" ,;.()[]<>-–:"))) > 0 {
				r.Findings = append(r.Findings, wordsFinding(len(strings.Fields(rest))))
			}
			out = append(out, r)
		}
	}
	return out
}

// Without returns how many lines of a text hold words and no URL.
func Without(text string) (n int) {
	line := 0
	for l := range strings.Lines(text) {
		if line++; line > MaxLines {
			n++
			continue
		}
		if strings.TrimSpace(l) != "" && !urlish.MatchString(l) {
			n++
		}
	}
	return n
}

// pieces parts a line before each URL but the first: one that begins behind a blank, a comma, a semicolon or a bracket is another.
func pieces(line string) (out []string) {
	from := 0
	for _, at := range opens.FindAllStringIndex(line, -1) {
		if at[0] == 0 || !strings.ContainsRune(" \t,;|(<\"'", rune(line[at[0]-1])) || !opens.MatchString(line[from:at[0]]) {
			continue
		}
		if before := strings.TrimRight(line[from:at[0]], " \t"); strings.HasSuffix(before, "://") || strings.HasSuffix(before,
			"@") || strings.HasSuffix(before, "=") {
			continue // the scheme stands twice, or the URL is a parameter of the one before
		}
		out = append(out, line[from:at[0]])
		from = at[0]
	}
	return append(out, line[from:])
}

func wordsFinding(n int) Finding {
	what := strconv.Itoa(n) + " words stand"
	if n == 1 {
		what = "a word stands"
	}
	return Finding{Words, what + " beside the URL", "left out"}
}

type repairer struct {
	text         string // the part before the sign-in is taken out, or all of it
	user, secret string // once they were taken out
	skip         map[Fault]bool
	found        []Finding
	problem, fix string
	hosts        []string // of alike readings
	site         func(netip.Addr) bool
	chosen       string
	whole        bool // nothing that could be damaged is left
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

// sentence is the end of a sentence behind a closing quote: the stop goes before the quotes do.
var sentence = regexp.MustCompile(`([` + around + `])[.!:]+\s*$`)

func (r *repairer) quotes() {
	if sentence.MatchString(r.text) && r.note(Stop, "a full stop stands behind the URL", "left out") {
		r.text = sentence.ReplaceAllString(r.text, "$1")
	}
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

// words takes off what was written behind a URL, and the full stop of the sentence that it stood in. A blank within the sign-in or
// next to a character that joins (: @ /) belongs to the URL and is left for later.
func (r *repairer) words() {
	begin := opens.FindStringIndex(r.text)
	from := 0
	if begin != nil {
		from = begin[1]
	}
	at := from + strings.LastIndex(r.text[from:], "@") + 1
	if at == from && begin == nil {
		at = 0
	}
	tail := r.text[at:]
	if cut := behind.FindStringIndex(tail); cut != nil {
		n := len(strings.Fields(tail[cut[0]:]))
		f := wordsFinding(n)
		if r.note(f.Fault, f.Problem, f.Becomes) {
			r.text = r.text[:at] + tail[:cut[0]]
		}
	}
	if bare := strings.TrimRight(r.text, ".!?:"); bare != r.text && strings.Contains(bare, "/") && !strings.HasSuffix(r.text,
		"?") && r.note(Stop, "a full stop stands behind the URL", "left out") {
		r.text = bare
	}
}

// behind is a blank with words after it that join on to nothing: the path has begun before.
var behind = regexp.MustCompile(`\s+[\pL(–-][^\s/@:\\]*(?:\s|$)`)

func (r *repairer) blanks() {
	r.text = strings.ToValidUTF8(r.text, "")
	bare := func(s string) string {
		return strings.Map(func(c rune) rune {
			if unicode.IsSpace(c) || unicode.Is(unicode.Cf, c) || unicode.IsControl(c) {
				return -1
			}
			return c
		}, s)
	}
	clean := bare(r.text)
	scheme, rest, ok := r.parts()
	if at := strings.LastIndex(rest, "@"); ok && at > 0 {
		user, secret, pair := strings.Cut(rest[:at], ":")
		// Blanks at its ends come from copying; one within it may be the person's own.
		if secret = strings.TrimSpace(secret); pair && strings.Contains(secret, " ") && r.note(SecretBlank,
			"a blank stands in the password", "kept as a part of it") {
			clean = bare(scheme) + "://" + bare(user) + ":" + strings.Join(strings.Fields(secret), " ") + bare(rest[at:])
		}
	}
	if strings.Join(strings.Fields(clean), "") != strings.Join(strings.Fields(r.text), "") || len(clean) != len(r.text) {
		if !r.note(Blanks, "blanks or invisible characters stand in the URL", "they are taken out") {
			return
		}
	}
	r.text = clean
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
	address = regexp.MustCompile(`^[A-Za-z0-9.,\-\[\]:]+`)
)

var spelled = map[string]string{"rtsps": "rtsps", "rstps": "rtsps", "rtsp": "rtsp", "rstp": "rtsp", "rtps": "rtsp", "rtp": "rtsp",
	"tsp": "rtsp", "http": "http", "hxxp": "http", "ttp": "http", "https": "https"}

func (r *repairer) scheme() {
	if r.ofDatagrams() {
		return
	}
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
var holder = regexp.MustCompile(`(?i)[<{\[(]\s*(user(?:name)?|login|pass(?:word|wd)?|pw|ip|ip[-_ ]?addr(?:ess)?|address|` +
	`host(?:name)?|camera[-_ ]?ip|port|rtsp[-_ ]?port|channel|ch|stream|n|x)\s*[>}\])]`)

func (r *repairer) placeholders() {
	scheme, rest, ok := r.parts()
	if !ok {
		return
	}
	at := strings.LastIndex(rest, "@")
	head, tail := rest[:at+1], rest[at+1:]
	if holder.MatchString(head) && r.note(Placeholder, "a placeholder stands where the sign-in belongs",
		"left out: the keyring has the sign-in") {
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
			r.problem, r.fix = "a placeholder stands where the address belongs", "put the camera's address in its place"
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
		r.problem, r.fix = "the placeholder "+m+" stands in the path", "put the value in its place"
	}
	r.text = scheme + "://" + head + host + path
}

var (
	twoPorts = regexp.MustCompile(`^([^:\[\]]+):(\d{1,5}):(\d{1,5})$`)
	numbers  = regexp.MustCompile(`^[0-9.,]+$`)
)

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
	case strings.HasPrefix(u.Scheme, "rtsp") && webPorts[u.Port] && r.note(WebPort,
		"port "+strconv.Itoa(u.Port)+" is a web port; the stream port belongs there",
		"left out: "+strconv.Itoa(defaultPorts[u.Scheme])+", or the one that the device names"):
		u.Port = 0
	default:
		return
	}
	r.text = u.String()
}

// askGroup is a query part by which a URL asks for multicast.
var askGroup = regexp.MustCompile(`(?i)&(?:(?:proto|protocol|transport|transmission|cast|mode)=multicast|multicast(?:=(?:1|true|` +
	`yes|on))?)&`)

func (r *repairer) path() {
	u, err := Parse(r.text)
	if err != nil || r.problem != "" {
		return
	}
	if m := askGroup.FindString("&" + u.Query + "&"); m != "" && r.note(Multicast,
		"it asks for multicast, which reaches a viewer only where every switch on the way carries it", "left out: the device sends to "+
			"the viewer alone") {
		left := strings.Trim(strings.Replace("&"+u.Query+"&", m, "&", 1), "&")
		u.Query = left
		r.text = u.String()
	}
	if strings.HasPrefix(u.Path, "//") && r.note(Slashes, "the path begins with more than one /", "/") {
		u.Path = "/" + strings.TrimLeft(u.Path, "/")
		r.text = u.String()
	}
}
