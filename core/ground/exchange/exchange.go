// Package exchange keeps the conversation with a device readable, for the moment when one must argue with a
// maker's support. Secrets are redacted on the way in: what a Log holds may be shown and stored.
package exchange

import (
	"fmt"
	"strings"
	"sync"
	"time"

	"unlatch/core/ground/redact"
	"unlatch/core/ground/signin"
	"unlatch/core/ground/wiretext"
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
	redact  redact.Redactor
	watch   func()
	sent    int
}

// NewLog begins a conversation; now is the clock seam, nil for time.Now.
func NewLog(now func() time.Time) *Log {
	if now == nil {
		now = time.Now
	}
	return &Log{start: now(), now: now}
}

// Know tells the log of a sign-in in use: its secret is taken out of everything that is recorded from now on, wherever it
// stands and however it is spelled.
func (l *Log) Know(in signin.SignIn) {
	if l != nil {
		l.redact.Know(in)
	}
}

// Watch has a function called before each entry.
func (l *Log) Watch(fn func()) { l.watch = fn }

// Sent records bytes that went to the device, Got bytes that came from it, Note something that happened besides.
func (l *Log) Sent(text string) {
	l.add(">", text)
	if l != nil {
		l.mu.Lock()
		l.sent++
		l.mu.Unlock()
	}
}

// Requests returns how often something was sent since the log was made.
func (l *Log) Requests() int {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.sent
}

// Got records bytes that came from the device.
func (l *Log) Got(text string) { l.add("<", text) }

// Note records something that happened besides: a connection opened, frames counted, a time run out.
func (l *Log) Note(format string, args ...any) { l.add("-", fmt.Sprintf(format, args...)) }

func (l *Log) add(sign, text string) {
	if l == nil {
		return
	}
	if l.watch != nil {
		l.watch()
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	whole := len(text)
	text = l.redact.Text(text[:min(whole, maxEntry)])
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
		l.text.WriteString(head + wiretext.Block(line) + "\n")
	}
}

// Take returns the conversation so far and begins it anew. What is known of secrets stays known.
func (l *Log) Take() string {
	if l == nil {
		return ""
	}
	out := l.String()
	l.mu.Lock()
	defer l.mu.Unlock()
	l.text.Reset()
	l.dropped, l.start = 0, l.now()
	return out
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
