// Package client asks an Unlatch server for the operations of its API, by their names in the OpenAPI document. It has no model of its own:
// bodies and answers are what the document says.
package client

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"time"
)

// Bounds of one question.
const (
	askTime    = 60 * time.Second
	fileTime   = 20 * time.Minute // of a file, which may be large
	mostAnswer = 64 << 20         // bytes
)

// A Client asks one server with one API token. Its methods may be called at once.
type Client struct {
	server   *url.URL
	token    string
	http     *http.Client
	files    *http.Client // for files, which may be large
	document func() ([]byte, error)
	once     sync.Once
	ops      map[string]operation
	err      error
}

// An operation is where one is asked for.
type operation struct{ method, path string }

// New returns a client of the server at an address such as https://unlatch.example:8443, which may have a path where a proxy serves it
// below one. document returns the OpenAPI document by which operations are known; transport may be nil.
func New(server, token string, document func() ([]byte, error), transport http.RoundTripper) (*Client, error) {
	u, err := url.Parse(strings.TrimRight(strings.TrimSpace(server), "/"))
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" || u.RawQuery != "" || u.Fragment != "" {
		return nil, fmt.Errorf("%q is not the address of a server; write it like https://unlatch.example:8443", server)
	}
	if u.User != nil {
		return nil, errors.New("the server's address holds a sign-in; give the API token instead")
	}
	return &Client{server: u, token: strings.TrimSpace(token), document: document,
		http:  &http.Client{Transport: transport, Timeout: askTime, CheckRedirect: stayHere},
		files: &http.Client{Transport: transport, Timeout: fileTime, CheckRedirect: stayHere}}, nil
}

// stayHere keeps the token with the server that it is for.
func stayHere(req *http.Request, via []*http.Request) error {
	if req.URL.Host != via[0].URL.Host || req.URL.Scheme != via[0].URL.Scheme {
		return fmt.Errorf("the server sends on to %s, which is not where the token is for", req.URL.Host)
	}
	if len(via) > 5 {
		return errors.New("the server sends on and on")
	}
	return nil
}

// Server returns the address of the server.
func (c *Client) Server() string { return c.server.String() }

// A ProblemError is the server's word on why something was not done (RFC 9457).
type ProblemError struct {
	Status int    `json:"status"`
	Cause  string `json:"cause"`
	Detail string `json:"detail"`
	Fix    string `json:"fix"`
}

func (e *ProblemError) Error() string { return strings.TrimSpace(e.Detail + " " + e.Fix) }

// ErrAway means that the server did not answer, or that something before it answered in its place. It may be back later.
var ErrAway = errors.New("the server does not answer")

// Params are what an operation is asked with: the parts of its path, and its query.
type Params struct {
	Path  map[string]string
	Query url.Values
}

// Call asks for an operation, reads its answer into something and returns it as it came too. body is sent as JSON; it and into may be nil.
// The error is a *ProblemError for the server's refusal, and wraps ErrAway where it does not answer.
func (c *Client) Call(ctx context.Context, name string, p Params, body, into any) ([]byte, error) {
	op, err := c.operation(name)
	if err != nil {
		return nil, err
	}
	path := op.path
	for k, v := range p.Path {
		path = strings.ReplaceAll(path, "{"+k+"}", url.PathEscape(v))
	}
	var sent io.Reader
	if body != nil {
		raw, err := json.Marshal(body)
		if err != nil {
			return nil, err
		}
		sent = bytes.NewReader(raw)
	}
	raw, err := c.ask(ctx, op.method, path, p.Query, sent)
	if err != nil || into == nil || len(raw) == 0 {
		return raw, err
	}
	if err := json.Unmarshal(raw, into); err != nil {
		return raw, fmt.Errorf("the answer to %s cannot be read; the server may be of another version: %w", name, err)
	}
	return raw, nil
}

// File returns what stands at a path of the API that the document does not tell of, such as a list to save.
func (c *Client) File(ctx context.Context, path string, query url.Values) ([]byte, error) {
	return c.ask(ctx, http.MethodGet, path, query, nil)
}

// Save writes what stands at a path of the API into w, however large it is, and returns how many bytes that were.
func (c *Client) Save(ctx context.Context, path string, w io.Writer) (int64, error) {
	res, err := c.send(ctx, c.files, question{method: http.MethodGet, path: path})
	if err != nil {
		return 0, err
	}
	defer res.Body.Close()
	if res.StatusCode >= 300 {
		raw, _ := io.ReadAll(io.LimitReader(res.Body, mostAnswer))
		return 0, refusal(res, raw)
	}
	return io.Copy(w, res.Body)
}

// Send posts a file to a path of the API, and reads the answer into something.
func (c *Client) Send(ctx context.Context, path, kind string, body io.Reader, into any) error {
	res, err := c.send(ctx, c.files, question{http.MethodPost, path, nil, kind, body})
	if err != nil {
		return err
	}
	defer res.Body.Close()
	raw, err := io.ReadAll(io.LimitReader(res.Body, mostAnswer))
	switch {
	case err != nil:
		return fmt.Errorf("%w: the answer was cut off: %w", ErrAway, err)
	case res.StatusCode >= 300:
		return refusal(res, raw)
	}
	return json.Unmarshal(raw, into)
}

func (c *Client) ask(ctx context.Context, method, path string, query url.Values, body io.Reader) ([]byte, error) {
	kind := ""
	if body != nil {
		kind = "application/json"
	}
	res, err := c.send(ctx, c.http, question{method, path, query, kind, body})
	if err != nil {
		return nil, err
	}
	defer res.Body.Close()
	raw, err := io.ReadAll(io.LimitReader(res.Body, mostAnswer+1))
	switch {
	case err != nil:
		return nil, fmt.Errorf("%w: the answer was cut off: %w", ErrAway, err)
	case len(raw) > mostAnswer:
		return nil, fmt.Errorf("the answer is larger than %d MB", mostAnswer>>20)
	case res.StatusCode < 300:
		return raw, nil
	}
	return nil, refusal(res, raw)
}

// A question is a request of the API, with a body of a kind; nil for none.
type question struct {
	method, path string
	query        url.Values
	kind         string
	body         io.Reader
}

// send asks a question. The caller closes the body of the answer.
func (c *Client) send(ctx context.Context, by *http.Client, q question) (*http.Response, error) {
	at := c.server.String() + q.path
	if len(q.query) > 0 {
		at += "?" + q.query.Encode()
	}
	req, err := http.NewRequestWithContext(ctx, q.method, at, q.body)
	if err != nil {
		return nil, err
	}
	if c.token != "" {
		req.Header.Set("Authorization", "Bearer "+c.token)
	}
	if q.kind != "" {
		req.Header.Set("Content-Type", q.kind)
	}
	res, err := by.Do(req)
	if err == nil {
		return res, nil
	}
	if ctx.Err() != nil {
		return nil, ctx.Err()
	}
	var u *url.Error
	if errors.As(err, &u) { // its own text repeats the whole address
		err = u.Err
	}
	return nil, fmt.Errorf("%w: %w", ErrAway, err)
}

// refusal reads why a request was not answered as wanted.
func refusal(res *http.Response, raw []byte) error {
	kind, _, _ := mime.ParseMediaType(res.Header.Get("Content-Type"))
	p := &ProblemError{Status: res.StatusCode}
	if kind == "application/problem+json" && json.Unmarshal(raw, p) == nil && p.Detail != "" {
		return p
	}
	if res.StatusCode >= 500 { // a proxy before a server that is being started anew says the like
		return fmt.Errorf("%w: something before it answered with %s", ErrAway, res.Status)
	}
	return fmt.Errorf("answered with %s and in no words of Unlatch's: is an Unlatch server there, or a proxy that keeps you out", res.Status)
}

// operation looks an operation up in the document.
func (c *Client) operation(name string) (operation, error) {
	c.once.Do(func() {
		raw, err := c.document()
		if err != nil {
			c.err = err
			return
		}
		c.ops, c.err = operationsOf(raw)
	})
	if c.err != nil {
		return operation{}, c.err
	}
	op, ok := c.ops[name]
	if !ok {
		return op, fmt.Errorf("the API has no operation %s", name)
	}
	return op, nil
}

func operationsOf(document []byte) (map[string]operation, error) {
	var doc struct {
		Paths map[string]map[string]json.RawMessage `json:"paths"`
	}
	if err := json.Unmarshal(document, &doc); err != nil {
		return nil, err
	}
	out := map[string]operation{}
	for path, methods := range doc.Paths {
		for method, raw := range methods {
			var op struct {
				ID string `json:"operationId"`
			}
			if json.Unmarshal(raw, &op) == nil && op.ID != "" {
				out[op.ID] = operation{strings.ToUpper(method), path}
			}
		}
	}
	return out, nil
}

// Version asks which version the server is of.
func (c *Client) Version(ctx context.Context) (string, error) {
	raw, err := c.ask(ctx, http.MethodGet, "/api/openapi.json", nil, nil)
	if err != nil {
		return "", err
	}
	var doc struct {
		Info struct {
			Title   string `json:"title"`
			Version string `json:"version"`
		} `json:"info"`
	}
	if err := json.Unmarshal(raw, &doc); err != nil || doc.Info.Title != "Unlatch" {
		return "", fmt.Errorf("no Unlatch server answers at %s", c.Server())
	}
	return doc.Info.Version, nil
}
