package recipe

import (
	"fmt"
	"slices"
	"strings"
)

// A Proposal is a template that explains every URL it was learned from.
type Proposal struct {
	Path   Template `json:"-"`
	Shape  string   `json:"path"`
	Why    []string `json:"why" doc:"what was read as what"`
	Values []Values `json:"values" doc:"of each URL, in their order"`
	Score  int      `json:"score"`
}

// Limits of learning.
const (
	MaxLearn     = 8   // URLs
	maxProposals = 24  // returned
	maxTried     = 600 // put together
)

// tierWords are pairs and triples of plain words for main, sub and third. They are words of the language and no maker's.
var tierWords = [][]string{
	{"main", "sub", "third"}, {"primary", "secondary", "tertiary"}, {"first", "second", "third"}, {"high", "low"}, {"high", "medium", "low"},
	{"upper", "lower"}, {"large", "small"}, {"big", "small"}, {"hd", "sd"}, {"stream1", "stream2", "stream3"}, {"full", "half", "quarter"},
}

// castWords tell unicast from multicast.
var castWords = [][]string{{"unicast", "multicast"}, {"uni", "multi"}}

// channelHints stand before a number that is likely a channel, streamHints before one that is likely a stream.
var (
	channelHints = []string{"channel", "chan", "ch", "camera", "cam", "c", "input", "in", "source", "src", "video", "port"}
	streamHints  = []string{"stream", "subtype", "str", "profile", "quality", "q", "tier", "level", "type", "s"}
)

// token is a run of digits, a run of letters, or what stands between.
type token struct {
	text string
	kind byte // 'd', 'a' or '.'
}

func tokens(path string) (out []token) {
	class := func(c byte) byte {
		switch {
		case c >= '0' && c <= '9':
			return 'd'
		case c >= 'a' && c <= 'z', c >= 'A' && c <= 'Z':
			return 'a'
		}
		return '.'
	}
	for i := 0; i < len(path); {
		j := i + 1
		for j < len(path) && class(path[j]) == class(path[i]) {
			j++
		}
		out = append(out, token{path[i:j], class(path[i])})
		i = j
	}
	return out
}

// option is one reading of a token.
type option struct {
	text  string // in the template
	why   string
	score int
	takes byte // 'c' channel, 's' stream, 'b' both, 'm' cast, 0 nothing
}

// Learn proposes the templates that explain the paths of working URLs of one kind of device (from the first / on), the likeliest first.
// From one path it says which number may be the channel and which word the tier; two or three that differ settle it. It returns none
// where no template explains them all as different channels, streams or transports.
func Learn(paths []string) []Proposal {
	if len(paths) == 0 || len(paths) > MaxLearn {
		return nil
	}
	for _, p := range paths {
		if len(p) > MaxLength {
			return nil
		}
	}
	first := tokens(paths[0])
	if len(first) > maxParts {
		return nil
	}
	options := make([][]option, len(first))
	for i := range first {
		options[i] = readings(first, i)
	}
	found := map[string]Proposal{}
	tried := 0
	var pick func(i int, text string, why []string, score int, used string)
	pick = func(i int, text string, why []string, score int, used string) {
		if tried >= maxTried {
			return
		}
		if i == len(options) {
			tried++
			if p, ok := explain(text, why, score, paths); ok {
				found[p.Shape] = p
			}
			return
		}
		for _, o := range options[i] {
			if o.takes != 0 && (strings.IndexByte(used, o.takes) >= 0 || o.takes == 'b' && strings.ContainsAny(used, "cs") || o.takes != 'm' &&
				strings.IndexByte(used, 'b') >= 0) {
				continue // each value is read once; a number that stands twice is found where the URLs differ
			}
			next, u := why, used
			if o.takes != 0 {
				next, u = append(slices.Clip(why), o.why), used+string(o.takes)
			}
			pick(i+1, text+o.text, next, score+o.score, u)
		}
	}
	pick(0, "", nil, 0, "")
	var out []Proposal
	for _, p := range found {
		out = append(out, p)
	}
	slices.SortFunc(out, func(a, b Proposal) int {
		if a.Score != b.Score {
			return b.Score - a.Score
		}
		if d := a.sum() - b.sum(); d != 0 {
			return d // low channels and streams are likelier than high ones
		}
		if len(a.Shape) != len(b.Shape) {
			return len(a.Shape) - len(b.Shape)
		}
		return strings.Compare(a.Shape, b.Shape)
	})
	return out[:min(len(out), maxProposals)]
}

func (p Proposal) sum() (n int) {
	for _, v := range p.Values {
		n += v.Channel + v.Stream
	}
	return n
}

// readings returns what a token can be, the likeliest first; itself is always among them.
func readings(all []token, i int) []option {
	t := all[i]
	itself := option{text: Quote(t.text)}
	switch t.kind {
	case 'd':
		return append(numberReadings(all, i), itself)
	case 'a':
		if out := wordReadings(t.text); out != nil {
			return append(out, itself)
		}
	}
	return []option{itself}
}

// wordReadings finds the token among the words for tiers and transports, in the letter case in which it stands.
func wordReadings(text string) (out []option) {
	for _, list := range []struct {
		sets  [][]string
		name  string
		takes byte
		says  string
	}{{tierWords, "tier", 's', "the word for the stream"}, {castWords, "cast", 'm', "the word for the transport"}} {
		for _, words := range list.sets {
			i := slices.Index(words, strings.ToLower(text))
			if i < 0 {
				continue
			}
			spelled := make([]string, len(words))
			for j, w := range words {
				spelled[j] = like(text, w)
			}
			out = append(out, option{text: "{" + list.name + ":" + strings.Join(spelled, "|") + "}",
				why: fmt.Sprintf("%q is %s", text, list.says), score: 8 - i, takes: list.takes})
		}
	}
	return out
}

// like writes a word in the letter case of another.
func like(model, word string) string {
	switch {
	case model == strings.ToUpper(model):
		return strings.ToUpper(word)
	case model[:1] == strings.ToUpper(model[:1]):
		return strings.ToUpper(word[:1]) + word[1:]
	}
	return word
}

func numberReadings(all []token, i int) (out []option) {
	text := all[i].text
	if len(text) > 6 {
		return nil
	}
	n := 0
	fmt.Sscanf(text, "%d", &n)
	width := ""
	if len(text) > 1 && text[0] == '0' {
		width = fmt.Sprintf(":0%d", len(text))
	}
	before := ""
	for j := i - 1; j >= 0 && j >= i-2; j-- {
		if all[j].kind == 'a' {
			before = strings.ToLower(all[j].text)
			break
		}
	}
	hint := func(list []string) int {
		if slices.Contains(list, before) {
			return 6
		}
		return 0
	}
	add := func(shape, why string, score int, takes byte) {
		out = append(out, option{text: "{" + shape + width + "}", why: fmt.Sprintf("%s is %s", text, why), score: score, takes: takes})
	}
	if n >= 1 && n <= MaxChannel {
		add("channel", "the channel", 5+hint(channelHints)-n/40, 'c')
	}
	if n < MaxChannel {
		add("channel-1", "the channel, counted from 0", 2+hint(channelHints), 'c')
	}
	if n >= 1 && n <= MaxStream {
		add("stream", "the stream, counted from 1", 4+hint(streamHints), 's')
	}
	if n < MaxStream {
		score := 3
		if n == 0 {
			score = 5 // what else would be counted from 0
		}
		add("stream-1", "the stream, counted from 0", score+hint(streamHints), 's')
	}
	for _, k := range []int{100, 10, 2, 4, 8, 16, 32} {
		for _, low := range []int{1, 0} { // whether the stream is counted from 1
			for _, base := range []int{0, 1} { // whether the channel is
				stream := n%k + 1 - low
				if channel := n/k + base; channel < 1 || channel > MaxChannel || stream < 1 || stream > MaxStream || n < k && base == 0 {
					continue
				}
				c, s := "channel", "stream"
				if base == 1 {
					c = "(channel-1)"
				}
				if low == 0 {
					s = "stream-1"
				}
				score := 1
				if k >= 10 && base == 0 {
					score = 4 // two decimal figures side by side are read at a glance
				}
				add(fmt.Sprintf("%s*%d+%s", c, k, s), fmt.Sprintf("channel and stream together, %d a channel", k), score, 'b')
			}
		}
	}
	return out
}

// Quote writes a literal so that a template reads it as itself.
func Quote(text string) string {
	return strings.NewReplacer("{", "{{", "}", "}}", "[", "[[", "]", "]]").Replace(text)
}

// explain keeps a template that fits every path with values of its own.
func explain(shape string, why []string, score int, paths []string) (Proposal, bool) {
	t, err := Parse(shape)
	if err != nil {
		return Proposal{}, false
	}
	p := Proposal{Path: t, Shape: shape, Why: why, Score: score}
	for _, path := range paths {
		v := t.Invert(path)
		if len(v) == 0 {
			return p, false
		}
		if slices.Contains(p.Values, v[0]) {
			return p, false // two different URLs are two different streams
		}
		p.Values = append(p.Values, v[0])
	}
	if len(paths) == 1 {
		if v := p.Values[0]; v.Channel <= 4 {
			p.Score += 2
		}
		return p, len(why) > 0
	}
	// What never changes over several URLs is no value that was seen at work.
	channels, streams := map[int]bool{}, map[int]bool{}
	for _, v := range p.Values {
		channels[v.Channel], streams[v.Stream] = true, true
	}
	for _, part := range []struct {
		used bool
		seen int
	}{{t.uses.channel, len(channels)}, {t.uses.stream, len(streams)}} {
		switch {
		case part.used && part.seen > 1:
			p.Score += 12
		case part.used:
			p.Score -= 12
		}
	}
	return p, true
}
