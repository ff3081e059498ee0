// Package exchange keeps the conversation with a device readable, for the moment when one must argue with a
// maker's support. Secrets are sealed on the way in: what a Log holds may be shown and stored.
package exchange

import (
	"fmt"
	"regexp"
	"strings"
	"sync"
	"time"
)

// Limits of one log: enough for a whole conversation, little enough to keep for every camera.
const (
	maxEntry = 16 << 10
	maxLog   = 96 << 10
)

// A Log is one conversation in time order. The zero value is not ready; use NewLog. A nil *Log records nothing.
type Log struct {
	mu      sync.Mutex
	start   time.Time
	now     func() time.Time
	text    strings.Builder
	dropped int
}

// NewLog begins a conversation; now is the clock seam, nil for time.Now.
func NewLog(now func() time.Time) *Log {
	if now == nil {
		now = time.Now
	}
	return &Log{start: now(), now: now}
}

// Sent records bytes that went to the device, Got bytes that came from it, Note something that happened besides.
func (l *Log) Sent(text string) { l.add(">", text) }

// Got records bytes that came from the device.
func (l *Log) Got(text string) { l.add("<", text) }

// Note records something that happened besides: a connection opened, frames counted, a time run out.
func (l *Log) Note(format string, args ...any) { l.add("-", fmt.Sprintf(format, args...)) }

func (l *Log) add(sign, text string) {
	if l == nil {
		return
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	whole := len(text)
	text = Seal(text[:min(whole, maxEntry)])
	if whole > maxEntry {
		text += fmt.Sprintf("\n… (%d bytes in all)", whole)
	}
	if l.text.Len()+len(text) > maxLog {
		l.dropped++
		return
	}
	head := fmt.Sprintf("%s %9.1f ms  ", sign, float64(l.now().Sub(l.start).Microseconds())/1000)
	for i, line := range strings.Split(strings.TrimRight(strings.ReplaceAll(text, "\r", ""), "\n"), "\n") {
		if i > 0 {
			head = sign + strings.Repeat(" ", len(head)-1)
		}
		l.text.WriteString(head + printable(line) + "\n")
	}
}

func (l *Log) String() string {
	if l == nil {
		return ""
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.dropped > 0 {
		return l.text.String() + fmt.Sprintf("- (%d more entries not kept)\n", l.dropped)
	}
	return l.text.String()
}

var (
	authLine   = regexp.MustCompile(`(?mi)^((?:proxy-)?authorization:[ \t]*)(.*)$`)
	authSecret = regexp.MustCompile(`(?i)(response|cnonce)="[^"]*"`)
	xmlSecret  = regexp.MustCompile(`(?s)(<(?:[\w.-]+:)?(?:Password|Nonce)(?:\s[^>]*)?>).*?(</|\z)`)
	userInfo   = regexp.MustCompile(`(://)[^/\s"'<>]*@`)
)

// Seal takes the secrets out of a text: Authorization lines, SOAP passwords, sign-ins in URLs.
func Seal(text string) string {
	text = authLine.ReplaceAllStringFunc(text, func(line string) string {
		m := authLine.FindStringSubmatch(line)
		if strings.HasPrefix(strings.ToLower(m[2]), "digest") {
			return m[1] + authSecret.ReplaceAllString(m[2], `$1="•••"`)
		}
		scheme, _, _ := strings.Cut(m[2], " ")
		return m[1] + scheme + " •••"
	})
	text = xmlSecret.ReplaceAllString(text, "${1}•••${2}")
	return userInfo.ReplaceAllString(text, "${1}•••@")
}

// printable keeps a hostile answer from writing control characters into a terminal or a page.
func printable(s string) string {
	return strings.Map(func(r rune) rune {
		if r == '\t' || r >= ' ' && r != 0x7f && r != 0xfffd {
			return r
		}
		return '·'
	}, s)
}
