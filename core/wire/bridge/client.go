package bridge

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"time"

	"unlatch/core/ground/address"
	"unlatch/core/ground/certificate"
	"unlatch/core/ground/exchange"
	"unlatch/core/ground/httpauth"
	"unlatch/core/ground/redact"
	"unlatch/core/ground/signin"
	"unlatch/core/ground/wiretext"
)

// Limits on a bridge's answers.
const (
	maxAnswer  = 4 << 20
	maxPicture = 8 << 20
	maxSlots   = 4096
	maxDepth   = 32
	maxHead    = 32 << 10
)

func clip(s string) string { return wiretext.Line(s, 80) }

// A RefusedError means that a sign-in is wanted, and none was given or the one given is not taken.
type RefusedError struct {
	Tried  bool
	Scheme string
}

func (e *RefusedError) Error() string {
	if !e.Tried {
		return "the bridge wants a sign-in and none was given"
	}
	return "the bridge refuses the sign-in (" + e.Scheme + ")"
}

// Options of a Client. Dial is needed.
type Options struct {
	Dial    address.Dialer
	SignIn  signin.SignIn
	Leave   signin.Leave  // is asked before the sign-in goes out; nil lets no readable one out
	Timeout time.Duration // of one answer; 0 means 10 s
	Pin     string        // SHA-256 of the certificate that it is known by, in hex; "" for none
	Log     *exchange.Log
}

// A Client asks one bridge. It is not safe for concurrent use.
type Client struct {
	base    *url.URL
	o       Options
	http    *http.Client
	dialer  *certificate.Dialer
	answer  *httpauth.Answer
	target  *Target
	traffic exchange.Traffic
}

// New returns a client of the bridge at an address like http://host:port/path, to which the paths of the contract are added.
func New(at string, o Options) (*Client, error) {
	u, err := url.Parse(strings.TrimSuffix(strings.TrimSpace(at), "/"))
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" || u.User != nil || u.RawQuery != "" {
		return nil, fmt.Errorf("%q is no address of a bridge: write it like http://192.0.2.10:8081", clip(at))
	}
	if o.Timeout == 0 {
		o.Timeout = 10 * time.Second
	}
	c := &Client{base: u, o: o}
	o.Log.Know(o.SignIn)
	c.dialer = &certificate.Dialer{Dial: c.traffic.Watch(o.Dial.DialContext), Pin: o.Pin, Timeout: o.Timeout, Log: o.Log, Typed: true}
	c.http = &http.Client{
		Transport: &http.Transport{DialContext: c.dialer.Dial, DialTLSContext: c.dialer.DialTLS, ResponseHeaderTimeout: o.Timeout,
			MaxResponseHeaderBytes: maxHead, DisableCompression: true, MaxIdleConnsPerHost: 1},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }, // a bridge redirects nobody
	}
	return c, nil
}

// Channel returns where requests go.
func (c *Client) Channel() signin.Channel { return c.dialer.Channel(c.base) }

// Scheme returns the one in which the bridge has taken the sign-in; "none" where it has asked for none.
func (c *Client) Scheme() string {
	if c.answer == nil {
		return "none"
	}
	return c.answer.Scheme()
}

// Close gives the connections back.
func (c *Client) Close() { c.http.CloseIdleConnections() }

// Shown returns the certificate that the bridge showed; nil without TLS.
func (c *Client) Shown() *certificate.Certificate { return c.dialer.Shown }

// Target asks what stands behind the bridge, once.
func (c *Client) Target(ctx context.Context) (*Target, error) {
	if c.target != nil {
		return c.target, nil
	}
	var t Target
	if err := c.ask(ctx, http.MethodGet, "/v1/target", nil, &t); err != nil {
		return nil, err
	}
	clean(&t.Name, &t.Kind, &t.Maker, &t.Model, &t.Serial)
	if err := t.validate(); err != nil {
		return nil, err
	}
	c.target = &t
	return c.target, nil
}

// Slots asks for all slots.
func (c *Client) Slots(ctx context.Context) (*Slots, error) {
	var s Slots
	if err := c.ask(ctx, http.MethodGet, "/v1/slots", nil, &s); err != nil {
		return nil, err
	}
	for i := range s.Slots {
		s.Slots[i].clean()
	}
	return &s, s.validate()
}

func clean(texts ...*string) {
	for _, t := range texts {
		*t = wiretext.Line(*t, 300)
	}
}

func (s *Slot) clean() {
	clean(&s.ID, &s.Label, &s.Why)
	if s.Entry != nil {
		clean(&s.Entry.Key, &s.Entry.Name, &s.Entry.Address, &s.Entry.User)
	}
	if s.Status != nil {
		clean(&s.Status.State, &s.Status.Says, &s.Status.Since, &s.Status.Pushed)
	}
}

// slot sends a request whose answer is the slot in its new state.
func (c *Client) slot(ctx context.Context, method, id, action string, in any) (*Slot, error) {
	var s Slot
	path := "/v1/slots/" + url.PathEscape(id)
	if action != "" {
		path += "/" + action
	}
	if err := c.ask(ctx, method, path, in, &s); err != nil {
		return nil, err
	}
	s.clean()
	if s.ID != id {
		return nil, &BrokenError{fmt.Sprintf("asked about the slot %q it tells of %q", clip(id), s.ID)}
	}
	return &s, (&Slots{Slots: []Slot{s}}).validate()
}

// Slot asks for one slot.
func (c *Client) Slot(ctx context.Context, id string) (*Slot, error) {
	return c.slot(ctx, http.MethodGet, id, "", nil)
}

// Put puts an entry into a slot. An entry with the key that the slot holds already is given what is new in it.
func (c *Client) Put(ctx context.Context, id string, e Entry) (*Slot, error) {
	s, err := c.slot(ctx, http.MethodPut, id, "", e)
	if err == nil && (s.Entry == nil || s.Entry.Key != e.Key) {
		return nil, &BrokenError{fmt.Sprintf("it said yes, and the slot %q does not hold the camera", clip(id))}
	}
	return s, err
}

// Remove empties a slot. One that is empty already is no error.
func (c *Client) Remove(ctx context.Context, id string) error {
	return c.ask(ctx, http.MethodDelete, "/v1/slots/"+url.PathEscape(id), nil, nil)
}

// Free gives up what blocks a slot.
func (c *Client) Free(ctx context.Context, id string) (*Slot, error) {
	return c.slot(ctx, http.MethodPost, id, "free", struct{}{})
}

// Move moves an entry to another slot; one that is there changes places with it.
func (c *Client) Move(ctx context.Context, id, to string) error {
	return c.ask(ctx, http.MethodPost, "/v1/slots/"+url.PathEscape(id)+"/move", map[string]string{"to": to}, nil)
}

// Order puts the used slots into an order, the first that is shown at a glance first.
func (c *Client) Order(ctx context.Context, ids []string) error {
	return c.ask(ctx, http.MethodPut, "/v1/order", map[string][]string{"slots": ids}, nil)
}

// SetSchedule sets when a slot records.
func (c *Client) SetSchedule(ctx context.Context, id string, s Schedule) error {
	return c.ask(ctx, http.MethodPut, "/v1/slots/"+url.PathEscape(id)+"/schedule", s, nil)
}

// Push has a slot's picture sent on to a live platform; there is one push at a time, and another one ends the last.
func (c *Client) Push(ctx context.Context, id string, p Push) (*Slot, error) {
	return c.slot(ctx, http.MethodPut, id, "push", p)
}

// EndPush ends that. Where nothing is pushed it is no error.
func (c *Client) EndPush(ctx context.Context, id string) error {
	return c.ask(ctx, http.MethodDelete, "/v1/slots/"+url.PathEscape(id)+"/push", nil, nil)
}

// A Shown tells of a camera that was put on a screen.
type Shown struct {
	Shown   bool   `json:"shown"`
	AfterMS int64  `json:"after_ms" doc:"until its first picture stood there"`
	Says    string `json:"says,omitempty"`
}

// Show puts a slot's camera on a screen.
func (c *Client) Show(ctx context.Context, id, screen string) (s Shown, err error) {
	err = c.ask(ctx, http.MethodPost, "/v1/slots/"+url.PathEscape(id)+"/show", map[string]string{"screen": screen}, &s)
	clean(&s.Says)
	return s, err
}

// Templates asks for the templates that are defined.
func (c *Client) Templates(ctx context.Context) ([]Template, error) {
	var out struct {
		Templates []Template `json:"templates"`
	}
	if err := c.ask(ctx, http.MethodGet, "/v1/templates", nil, &out); err != nil {
		return nil, err
	}
	seen := map[int]bool{}
	for i := range out.Templates {
		t := &out.Templates[i]
		clean(&t.Path)
		if t.Number < 1 || seen[t.Number] {
			return nil, &BrokenError{fmt.Sprintf("the template %d is there twice, or its number is none", t.Number)}
		}
		seen[t.Number] = true
	}
	return out.Templates, nil
}

// SetTemplate defines a template.
func (c *Client) SetTemplate(ctx context.Context, t Template) error {
	return c.ask(ctx, http.MethodPut, fmt.Sprintf("/v1/templates/%d", t.Number), t, nil)
}

// Picture asks for what a slot shows, as a JPEG.
func (c *Client) Picture(ctx context.Context, id string) ([]byte, error) {
	path := "/v1/slots/" + url.PathEscape(id) + "/picture"
	res, err := c.do(ctx, http.MethodGet, path, nil)
	if err != nil {
		return nil, err
	}
	defer res.Body.Close()
	raw, err := bounded(res.Body, maxPicture)
	switch {
	case err != nil:
		return nil, err
	case res.StatusCode != http.StatusOK:
		return nil, problemOf(res, raw)
	case !bytes.HasPrefix(raw, []byte{0xff, 0xd8}):
		return nil, &BrokenError{"its picture is no JPEG"}
	}
	return raw, nil
}

// bounded reads a whole answer; one without end is a *BrokenError.
func bounded(r io.Reader, most int64) ([]byte, error) {
	raw, err := io.ReadAll(io.LimitReader(r, most+1))
	if err == nil && int64(len(raw)) > most {
		err = &BrokenError{fmt.Sprintf("an answer of more than %d MB", most>>20)}
	}
	return raw, err
}

// ask sends a request and reads its answer into out; nil for nothing.
func (c *Client) ask(ctx context.Context, method, path string, in, out any) error {
	var body []byte
	if in != nil {
		var err error
		if body, err = json.Marshal(in); err != nil {
			return err
		}
	}
	res, err := c.do(ctx, method, path, body)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	raw, err := bounded(res.Body, maxAnswer)
	if err != nil {
		return err
	}
	c.o.Log.Got(res.Status + "\n" + redact.Text(wiretext.Block(string(raw[:min(len(raw), 8<<10)]))))
	switch {
	case res.StatusCode >= 300:
		return problemOf(res, raw)
	case out == nil:
		return nil
	case tooDeep(raw):
		return &BrokenError{"its JSON is nested without end"}
	}
	if err := json.Unmarshal(raw, out); err != nil {
		return &BrokenError{"its answer to " + method + " " + path + " cannot be read as the contract says: " + clip(err.Error())}
	}
	wiretext.Every(out)
	return nil
}

// tooDeep reports whether JSON is nested deeper than any answer of the contract.
func tooDeep(raw []byte) bool {
	depth, text, escaped := 0, false, false
	for _, b := range raw {
		switch {
		case escaped:
			escaped = false
		case text:
			escaped, text = b == '\\', b != '"'
		case b == '"':
			text = true
		case b == '{' || b == '[':
			if depth++; depth > maxDepth {
				return true
			}
		case b == '}' || b == ']':
			depth--
		}
	}
	return false
}

// problemOf is the error of an answer that is none of the 200s.
func problemOf(res *http.Response, raw []byte) error {
	p := Problem{}
	kind := res.Header.Get("Content-Type")
	if !strings.HasPrefix(kind, "application/problem+json") || json.Unmarshal(raw, &p) != nil || p.Title == "" {
		return &BrokenError{fmt.Sprintf("it answers %s without a problem document", res.Status)}
	}
	p.Status = res.StatusCode
	wiretext.Every(&p)
	clean(&p.Type, &p.Title, &p.Detail, &p.Field, &p.Has, &p.Wants)
	return &p
}

// do sends one request, with the sign-in where the bridge asks for it: it is sent once for each new challenge.
func (c *Client) do(ctx context.Context, method, path string, body []byte) (_ *http.Response, err error) {
	var judged func(error)
	tell := func(err error) {
		if judged != nil {
			judged(err)
			judged = nil
		}
	}
	defer func() { tell(err) }()
	to := *c.base
	to.Path += path
	if p, perr := url.PathUnescape(c.base.EscapedPath() + path); perr == nil {
		to.Path, to.RawPath = p, c.base.EscapedPath()+path
	}
	renewed := false
	for {
		paced, pace := exchange.Paced(ctx, c.o.Timeout)
		req, err := http.NewRequestWithContext(paced, method, to.String(), bytes.NewReader(body))
		if err != nil {
			pace.Stop()
			return nil, err
		}
		req.Header.Set("Accept", "application/json, application/problem+json, image/jpeg")
		req.Header.Set("User-Agent", "Unlatch")
		if body != nil {
			req.Header.Set("Content-Type", "application/json")
		}
		signed := c.answer != nil
		if signed {
			req.Header.Set("Authorization", c.answer.Header(method, to.RequestURI()))
		}
		c.o.Log.Sent(method + " " + to.String() + "\n" + hidden(body))
		mark := c.traffic.Mark()
		res, err := c.http.Do(req)
		if err != nil {
			pace.Stop()
			var u *url.Error
			if errors.As(err, &u) {
				err = u.Err
			}
			err = mark.Explain(pace.Explain(err, "the bridge's answer"), "the bridge's answer")
			c.o.Log.Note("%v", err)
			return nil, err
		}
		res.Body = pace.Body(res.Body, "the bridge's answer")
		if res.StatusCode != http.StatusUnauthorized {
			if err := signin.LockedOut(judged != nil, res.StatusCode, res.Header.Get("Retry-After"), "", time.Now()); err != nil {
				res.Body.Close()
				return nil, err
			}
			tell(nil)
			return res, nil
		}
		io.Copy(io.Discard, io.LimitReader(res.Body, maxHead))
		res.Body.Close()
		c.o.Log.Got(res.Status)
		best, err := httpauth.Choose(httpauth.ParseChallenges(res.Header.Values("WWW-Authenticate")))
		if err != nil {
			return nil, errors.Join(err, &RefusedError{})
		}
		if c.o.SignIn.Anonymous() || renewed || signed && (!c.answer.OutOfDate(best) || best.Name() != c.answer.Scheme()) {
			return nil, &RefusedError{Tried: signed, Scheme: best.Name()}
		}
		tell(signin.ErrStale)
		renewed = signed
		judged, err = c.o.Leave.Ask(ctx, signin.Sending{Scheme: best.Name(), Renewed: signed, Channel: c.Channel()})
		if err != nil {
			judged = nil
			c.o.Log.Note("the sign-in is not sent: %v", err)
			return nil, err
		}
		c.answer = httpauth.NewAnswer(best, c.o.SignIn.User, c.o.SignIn.Secret.Reveal())
	}
}

// hidden returns a body as the exchange may show it: a password or a stream key in it is dots, whoever's it is.
func hidden(body []byte) string {
	var v any
	if len(body) == 0 || json.Unmarshal(body, &v) != nil {
		return ""
	}
	hide(v)
	out, err := json.Marshal(v)
	if err != nil {
		return ""
	}
	return redact.Text(string(out))
}

func hide(v any) {
	m, ok := v.(map[string]any)
	if !ok {
		return
	}
	for k := range m {
		if k == "password" || k == "key" && m["ingest"] != nil {
			m[k] = "•••"
		} else {
			hide(m[k])
		}
	}
}
