// Package camlist makes text of a list of cameras: for screens that fetch one, for players, and for whatever else reads a file. The text is
// made by a template in the language of text/template with a fixed, safe set of fields and functions (docs/templates.md): it ends, it is
// bounded, and it holds a password only where that was allowed.
package camlist

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"strings"
	"text/template"
	"text/template/parse"
	"time"

	"unlatch/core/ground/signin"
	"unlatch/core/ground/streamurl"
)

// Limits on a template and on what it makes.
const (
	maxTemplate = 64 << 10
	maxOutput   = 4 << 20
	maxText     = 64 << 10 // of one value
	maxMade     = 64 << 20 // of all values that functions make, whatever becomes of them
	maxRounds   = 500_000
	maxTime     = 2 * time.Second
)

// A Stream is a stream of a camera as a template sees it.
type Stream struct {
	Role          string
	Codec         string
	Width, Height int
	FPS           float64
	Kbps          float64
	URL           string // without the sign-in
	signed        string
	allowed       bool
}

// SignedURL returns the URL with the sign-in in it; an error where the list may hold no passwords.
func (s Stream) SignedURL() (string, error) {
	if !s.allowed {
		return "", ErrSecret
	}
	return s.signed, nil
}

// A Camera is a camera as a template sees it.
type Camera struct {
	Number   int // counted from 1
	ID       string
	Name     string
	Address  string
	Port     int
	Path     string
	Maker    string
	Model    string
	Serial   string
	MAC      string
	User     string
	Channel  int // of the recorder that it comes through; 0 for none
	Streams  []Stream
	password string
	allowed  bool
}

// Password returns the password of the streams; an error where the list may hold none.
func (c Camera) Password() (string, error) {
	if !c.allowed {
		return "", ErrSecret
	}
	return c.password, nil
}

// Main and Sub are its streams of these roles; where there is none, the first stream.
func (c Camera) Main() Stream { return c.stream("main") }
func (c Camera) Sub() Stream  { return c.stream("sub") }

func (c Camera) stream(role string) Stream {
	for _, s := range c.Streams {
		if s.Role == role {
			return s
		}
	}
	if len(c.Streams) > 0 {
		return c.Streams[0]
	}
	return Stream{}
}

// Locate fills port and path in from the first stream.
func (c *Camera) Locate() {
	if len(c.Streams) == 0 {
		return
	}
	if u, err := streamurl.Parse(c.Streams[0].URL); err == nil {
		c.Port, c.Path = u.DialPort(), u.Target()
	}
}

// SignIn gives the camera the sign-in of its streams.
func (c *Camera) SignIn(in signin.SignIn) {
	c.User, c.password = in.User, in.Secret.Reveal()
	for i := range c.Streams {
		s := &c.Streams[i]
		if u, err := streamurl.Parse(s.URL); err == nil {
			u.SignIn = in
			s.signed = u.Reveal()
		}
	}
}

// ErrSecret is for a template that asks for a password where none may stand.
var ErrSecret = errors.New("this list may hold no passwords: allow it in the target's settings, or use .URL and .User alone")

// An Error says what is wrong with a template, and in which line.
type Error struct {
	Line    int // counted from 1; 0 where none can be told
	Problem string
}

func (e *Error) Error() string {
	if e.Line == 0 {
		return e.Problem
	}
	return fmt.Sprintf("line %d: %s", e.Line, e.Problem)
}

// A Source is a template.
type Source struct {
	Text      string
	Each      bool // once for each camera rather than once for all
	Passwords bool // the text may hold passwords
}

// all is what a template for all cameras begins from.
type all struct {
	Site    string
	Cameras []Camera
}

// Render makes the text. The error is an *Error.
func Render(ctx context.Context, src Source, site string, cameras []Camera) ([]byte, error) {
	if len(src.Text) > maxTemplate {
		return nil, &Error{Problem: fmt.Sprintf("a template is at most %d kB", maxTemplate>>10)}
	}
	run := &run{ctx: ctx, left: maxRounds, until: time.Now().Add(maxTime)}
	t, err := template.New("list").Option("missingkey=error").Funcs(functions(run)).Parse(src.Text)
	if err != nil {
		return nil, located(err)
	}
	for _, one := range t.Templates() {
		if one.Tree == nil {
			continue
		}
		if err := run.bound(one.Root); err != nil {
			return nil, err
		}
	}
	own := make([]Camera, len(cameras))
	for i, c := range cameras {
		c.allowed = src.Passwords
		c.Streams = append([]Stream(nil), c.Streams...)
		for j := range c.Streams {
			c.Streams[j].allowed = src.Passwords
		}
		own[i] = c
	}
	out := &boundedBuffer{}
	if !src.Each {
		if err := t.Execute(out, all{site, own}); err != nil {
			return nil, located(err)
		}
		return out.Bytes(), nil
	}
	for _, c := range own {
		if err := t.Execute(out, c); err != nil {
			return nil, located(err)
		}
	}
	return out.Bytes(), nil
}

// run is the bound on one rendering.
type run struct {
	ctx   context.Context
	left  int
	bytes int // that functions have made
	until time.Time
}

var errEndless = errors.New("the template goes round and round: it was stopped")

// tick counts one round of a loop.
func (r *run) tick() (string, error) {
	r.left--
	if r.left < 0 || r.left%256 == 0 && (r.ctx.Err() != nil || time.Now().After(r.until)) {
		return "", errEndless
	}
	return "", nil
}

// bound puts a count into every loop, and turns down what could call itself.
func (r *run) bound(n parse.Node) error {
	switch n := n.(type) {
	case *parse.ListNode:
		if n == nil {
			return nil
		}
		for _, c := range n.Nodes {
			if err := r.bound(c); err != nil {
				return err
			}
		}
	case *parse.TemplateNode:
		return &Error{Line: n.Line, Problem: "a template cannot call another one"}
	case *parse.IfNode:
		return errors.Join(r.bound(n.List), r.bound(n.ElseList))
	case *parse.WithNode:
		return errors.Join(r.bound(n.List), r.bound(n.ElseList))
	case *parse.RangeNode:
		if err := errors.Join(r.bound(n.List), r.bound(n.ElseList)); err != nil {
			return err
		}
		count, err := parse.Parse("tick", "{{tick}}", "", "", map[string]any{"tick": r.tick})
		if err != nil {
			return err
		}
		n.List.Nodes = append(count["tick"].Root.Nodes, n.List.Nodes...)
	}
	return nil
}

// boundedBuffer takes so much and no more.
type boundedBuffer struct{ bytes.Buffer }

func (b *boundedBuffer) Write(p []byte) (int, error) {
	if b.Len()+len(p) > maxOutput {
		return 0, fmt.Errorf("the text is longer than %d MB", maxOutput>>20)
	}
	return b.Buffer.Write(p)
}

// located takes the line out of an error of text/template.
func located(err error) error {
	var own *Error
	if errors.As(err, &own) {
		return own
	}
	for _, e := range []error{ErrSecret, errEndless, errLong, errMade} {
		if errors.Is(err, e) {
			return &Error{lineOf(err.Error()), e.Error()}
		}
	}
	text := strings.TrimPrefix(err.Error(), "template: ")
	line := lineOf(err.Error())
	if line > 0 {
		if _, rest, ok := strings.Cut(text, ": "); ok {
			text = rest
		}
		if i := strings.LastIndex(text, ">: "); i > 0 {
			text = text[i+3:]
		}
	}
	return &Error{line, text}
}

func lineOf(text string) int {
	var n int
	_, rest, ok := strings.Cut(text, "list:")
	if !ok {
		return 0
	}
	fmt.Sscanf(rest, "%d", &n)
	return n
}

// Dots gives the camera a sign-in whose password is a placeholder, for previews.
func (c *Camera) Dots(placeholder string) {
	c.password = placeholder
	for i := range c.Streams {
		c.Streams[i].signed = c.Streams[i].URL
		if scheme, rest, ok := strings.Cut(c.Streams[i].URL, "://"); ok && c.User != "" {
			c.Streams[i].signed = scheme + "://" + c.User + ":" + placeholder + "@" + rest
		}
	}
}
