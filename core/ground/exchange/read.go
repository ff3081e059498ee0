package exchange

import (
	"fmt"
	"net/url"
	"regexp"
	"strconv"
	"strings"
)

// A Turn is one request with its answers, or something that happened besides.
type Turn struct {
	AtMS   float64 `json:"at_ms"`
	TookMS float64 `json:"took_ms,omitempty" doc:"from the request to the end of its first answer"`
	Note   string  `json:"note,omitempty" doc:"of something that happened besides; nothing was sent then"`
	Asked  string  `json:"asked,omitempty" doc:"what was asked in a few words: DESCRIBE rtsp://…, GetProfiles"`
	Answer string  `json:"answer,omitempty" doc:"how it was answered in a few words: 401 Unauthorized; missing where no answer came"`
	Sent   string  `json:"sent,omitempty"`
	Got    string  `json:"got,omitempty"`
	Mark   string  `json:"mark,omitempty" doc:"why it is worth a look"`
	SDP    string  `json:"sdp,omitempty" doc:"the stream's description (RFC 8866), where the answer holds one"`
}

// maxTurns bounds what is read of one conversation.
const maxTurns = 2000

// A head begins an entry as Log writes it; the lines after it are indented as far.
const (
	timeEnd = 11
	headEnd = 16
)

// Read splits a conversation, as a Log has written it, into its turns. What is not of a log's form is kept as notes: nothing is lost.
func Read(text string) []Turn {
	turns := []Turn{}
	var sign byte
	for _, line := range strings.Split(strings.TrimSuffix(text, "\n"), "\n") {
		if line == "" {
			continue
		}
		at, rest, head := entry(line)
		switch {
		case !head && len(line) >= headEnd && line[0] == sign && strings.TrimSpace(line[1:headEnd]) == "" && len(turns) > 0:
			turns[len(turns)-1].more(sign, line[headEnd:])
			continue
		case !head && len(line) == headEnd-1 || !head && strings.TrimRight(line, " ") == string(sign): // an empty line of an entry
			if len(turns) > 0 {
				turns[len(turns)-1].more(sign, "")
				continue
			}
		case len(turns) >= maxTurns:
			continue
		}
		if !head {
			sign = 0
			turns = append(turns, Turn{Note: strings.TrimLeft(line, "- ")})
			continue
		}
		sign = line[0]
		last := len(turns) - 1
		if sign == '<' && last >= 0 && turns[last].Note == "" {
			if t := &turns[last]; t.Got == "" {
				t.TookMS = max(0, at-t.AtMS)
				t.Got = rest
			} else {
				t.Got += "\n" + rest
			}
			continue
		}
		t := Turn{AtMS: at}
		switch sign {
		case '>':
			t.Sent = rest
		case '<': // nobody asked
			t.Got = rest
		default:
			t.Note = rest
		}
		turns = append(turns, t)
	}
	asked := false
	for i := len(turns) - 1; i >= 0; i-- {
		t := &turns[i]
		if t.name(); t.Mark == wantsSignIn && asked {
			t.Mark = "" // the usual first step: the sign-in went out after it
		}
		asked = asked || t.Sent != ""
	}
	return turns
}

// entry reads the beginning of an entry.
func entry(line string) (at float64, rest string, ok bool) {
	if len(line) < headEnd || !strings.ContainsRune("<>-", rune(line[0])) || line[1] != ' ' || line[timeEnd:headEnd] != " ms  " {
		return 0, "", false
	}
	at, err := strconv.ParseFloat(strings.TrimSpace(line[2:timeEnd]), 64)
	return at, line[headEnd:], err == nil
}

func (t *Turn) more(sign byte, line string) {
	switch {
	case sign == '>':
		t.Sent += "\n" + line
	case sign == '<':
		t.Got += "\n" + line
	default:
		t.Note += "\n" + line
	}
}

var (
	soapAction = regexp.MustCompile(`action="[^"]*/([A-Za-z0-9]{1,80})"`)
	statusLine = regexp.MustCompile(`(?m)^(?:RTSP|HTTP)/\d\.\d (\d{3})(?: (.{0,80}))?`)
	faultCode  = regexp.MustCompile(`>\s*ter:([A-Za-z0-9]{1,60})\s*<`)
	xaddr      = regexp.MustCompile(`<[A-Za-z0-9_-]{0,20}:?(?:XAddr|Uri|MediaUri)>\s*([a-z]{3,5}://[^<\s]{1,400})`)
)

// marks say why an answer matters, by its status.
var marks = map[int]string{
	301: "it sends elsewhere", 302: "it sends elsewhere", 307: "it sends elsewhere",
	401: "it wants a sign-in, or refuses the one that was sent", 403: "this user may not", 404: "it knows no such path",
	453: "it serves as many viewers as it can", 454: "it does not know the session any more", 455: "not in this state",
	461: "it does not send over this transport", 500: "it failed", 503: "it is busy or locked",
}

const wantsSignIn = "it wants a sign-in"

// name finds what was asked and answered, and whether that matters.
func (t *Turn) name() {
	if t.Sent != "" {
		first, _, _ := strings.Cut(t.Sent, "\n")
		t.Asked = strings.TrimSuffix(strings.TrimSuffix(first, " RTSP/1.0"), " HTTP/1.1")
		if verb, at, ok := strings.Cut(t.Asked, " "); ok {
			if u, err := url.Parse(at); err == nil && u.Host != "" && u.Path != "" {
				t.Asked = verb + " " + u.RequestURI()
			}
		}
		if m := soapAction.FindStringSubmatch(t.Sent); m != nil {
			t.Asked = m[1]
		}
	}
	m := statusLine.FindStringSubmatch(t.Got)
	if m != nil {
		t.Answer = strings.TrimSpace(m[1] + " " + m[2])
		status, _ := strconv.Atoi(m[1])
		switch {
		case marks[status] != "":
			t.Mark = marks[status]
		case status >= 400:
			t.Mark = "it refuses"
		}
		if status == 401 && strings.Contains(t.Sent, "Authorization:") {
			t.Mark = "it refuses this sign-in"
		} else if status == 401 {
			t.Mark = wantsSignIn
		}
	} else if t.Got != "" {
		t.Answer, _, _ = strings.Cut(t.Got, "\n")
		t.Answer = t.Answer[:min(len(t.Answer), 80)]
	} else if t.Sent != "" {
		t.Mark = "no answer came"
	}
	if f := faultCode.FindAllStringSubmatch(t.Got, 4); f != nil && !strings.HasPrefix(t.Answer, "401") {
		code := f[len(f)-1][1]
		t.Answer, t.Mark = strings.TrimSpace(t.Answer+" "+code), "it answers with the fault "+code
	}
	if head, body, ok := strings.Cut(t.Got, "\n\n"); ok && strings.Contains(strings.ToLower(head), "application/sdp") {
		t.SDP = strings.ReplaceAll(strings.TrimRight(body, "\n"), "\n", "\r\n") + "\r\n"
	}
	if t.Mark == "" {
		t.Mark = t.elsewhere()
	}
}

// elsewhere marks an answer that names another host than the one that was asked: a device behind translation, or one that kept an old
// address.
func (t *Turn) elsewhere() string {
	_, at, _ := strings.Cut(strings.SplitN(t.Sent, "\n", 2)[0], " ")
	asked, err := url.Parse(strings.Fields(at + " .")[0])
	if err != nil || asked.Hostname() == "" {
		return ""
	}
	for _, m := range xaddr.FindAllStringSubmatch(t.Got, 64) {
		named, err := url.Parse(strings.ReplaceAll(m[1], "•••@", ""))
		if err == nil && named.Hostname() != "" && named.Hostname() != asked.Hostname() {
			return fmt.Sprintf("it names %s, and was asked at %s", named.Hostname(), asked.Hostname())
		}
	}
	return ""
}

// Mattered returns the index of the last turn that is marked, which is the one that explains a failure; -1 if none is marked.
func Mattered(turns []Turn) int {
	for i := len(turns) - 1; i >= 0; i-- {
		if turns[i].Mark != "" {
			return i
		}
	}
	return -1
}
