package onvif

import (
	"cmp"
	"context"
	"crypto/rand"
	"crypto/sha1"
	"encoding/base64"
	"encoding/xml"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"strings"
	"time"

	"unlatch/core/ground/address"
	"unlatch/core/ground/certificate"
	"unlatch/core/ground/exchange"
	"unlatch/core/ground/httpauth"
	"unlatch/core/ground/signin"
)

// A Client talks to one device. It is not safe for concurrent use.
type Client struct {
	device   string // address of the device service
	http     *http.Client
	slow     *http.Client // for changes of streams
	tls      *certificate.Dialer
	moved    map[string]string // scheme, host and port that sent us to TLS, and where
	signIn   signin.SignIn
	log      *exchange.Log
	skew     time.Duration     // device clock minus ours
	logins   map[string]*login // by scheme, host and port
	leave    signin.Leave
	inScope  func(netip.Addr) bool
	traffic  exchange.Traffic
	services map[string]string
}

// A login is how one channel of the device takes the sign-in. A device may name its services at several channels; each is asked without a
// sign-in first, and leave to send one is asked for each.
type login struct {
	scheme  string           // "", "WS-UsernameToken", or the name of an HTTP scheme
	answer  *httpauth.Answer // nil for WS-UsernameToken
	opened  bool             // the device has taken the sign-in
	renewed bool             // the sign-in is to be sent again, with a new nonce
}

// loginAt returns the login of the channel that a service's address lies at.
func (c *Client) loginAt(service string) *login {
	u, err := url.Parse(c.secured(service))
	if err != nil {
		return &login{}
	}
	key := c.tls.Channel(u).String()
	if c.logins[key] == nil {
		c.logins[key] = &login{}
	}
	return c.logins[key]
}

// Channel returns where the requests to a service go, and the scheme in which the sign-in was taken there; "none" where it was not asked
// for.
func (c *Client) Channel(ctx context.Context, namespace string) (to signin.Channel, scheme string, err error) {
	at, err := c.service(ctx, namespace)
	if err != nil {
		return to, "", err
	}
	u, err := url.Parse(c.secured(at))
	if err != nil {
		return to, "", err
	}
	return c.tls.Channel(u), cmp.Or(c.loginAt(at).scheme, "none"), nil
}

// Options of a Client.
type Options struct {
	Dial   address.Dialer
	SignIn signin.SignIn
	// InScope reports whether a host that the device names for its streams may be asked, too; nil for none but its own.
	InScope func(netip.Addr) bool
	Leave   signin.Leave  // is asked before the sign-in goes out; nil lets no readable one out
	Pin     string        // SHA-256 of the certificate that the device showed before, in hex; "" for none
	Timeout time.Duration // for one answer; 0 means 5 s
	// Changing is for the answer to a change of streams, which cameras take their time for; 0 means 30 s.
	Changing time.Duration
	Log      *exchange.Log
}

// New prepares a client for the device service at an http or https URL. Nothing is sent.
func New(deviceService string, opt Options) *Client {
	if opt.Timeout == 0 {
		opt.Timeout = 5 * time.Second
	}
	if opt.Changing == 0 {
		opt.Changing = 30 * time.Second
	}
	opt.Log.Know(opt.SignIn)
	c := &Client{device: deviceService, signIn: opt.SignIn, log: opt.Log, leave: opt.Leave, inScope: opt.InScope,
		moved: map[string]string{}, logins: map[string]*login{}}
	c.tls = &certificate.Dialer{Dial: c.traffic.Watch(opt.Dial.DialContext), Pin: opt.Pin, Timeout: opt.Timeout, Log: opt.Log}
	c.http = &http.Client{
		Timeout: opt.Timeout,
		Transport: &http.Transport{
			DialContext:            c.traffic.Watch(opt.Dial.DialContext),
			DialTLSContext:         c.tls.DialTLS,
			ResponseHeaderTimeout:  opt.Timeout,
			MaxResponseHeaderBytes: 32 << 10,
			MaxIdleConnsPerHost:    1,
			IdleConnTimeout:        5 * time.Second,
			DisableCompression:     true, // an answer is as large as what came over the wire
		},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}
	slow := c.http.Transport.(*http.Transport).Clone()
	slow.ResponseHeaderTimeout = opt.Changing
	c.slow = &http.Client{Timeout: opt.Changing, Transport: slow, CheckRedirect: c.http.CheckRedirect}
	return c
}

// clientFor returns the HTTP client for an action: changes of streams get more time than questions.
func (c *Client) clientFor(action string) *http.Client {
	service, name, _ := strings.Cut(strings.TrimPrefix(action, "http://www.onvif.org/"), "wsdl/")
	if strings.HasSuffix(service, "/media/") && !strings.HasPrefix(name, "Get") {
		return c.slow
	}
	return c.http
}

// SignInAs has the client use another sign-in from now on. What it has learned of the device stays: its clock and its services.
func (c *Client) SignInAs(in signin.SignIn, leave signin.Leave) {
	c.log.Know(in)
	c.signIn, c.leave = in, leave
	clear(c.logins)
}

// Certificate returns what the device has shown; nil where nothing went over TLS.
func (c *Client) Certificate() *certificate.Certificate { return c.tls.Shown }

// Address returns where the device service answers: what New was given, or where that has sent us within the same host.
func (c *Client) Address() string { return c.secured(c.device) }

// Skew returns the device's clock minus ours, as Clock read it last.
func (c *Client) Skew() time.Duration { return c.skew }

// Close gives idle connections back.
func (c *Client) Close() {
	c.http.CloseIdleConnections()
	c.slow.CloseIdleConnections()
}

// Scheme names the way in which the device service took the sign-in; "none" where it asked for none.
func (c *Client) Scheme() string { return cmp.Or(c.loginAt(c.device).scheme, "none") }

// Call sends one request to a service and reads its answer into out. It first asks without a sign-in, so that the device
// says which scheme it wants, and then sends the sign-in once in that scheme: a wrong password costs one try.
func (c *Client) Call(ctx context.Context, service, action, body string, out any) error {
	l := c.loginAt(service)
	if l.scheme == "" {
		res, raw, err := c.post(ctx, service, action, c.envelope(body, false))
		if err != nil {
			return err
		}
		if err := locked(false, res, raw); err != nil {
			return err
		}
		l = c.loginAt(service) // the answer may have sent us to TLS
		wants, err := c.wants(l, res, read(res, raw, out))
		if !wants {
			return err
		}
		if err != nil {
			return err
		}
	}
	return c.signed(ctx, l, service, action, body, out)
}

// wants looks at the answer to an unsigned request. It reports whether the device wants a sign-in, and prepares one; else
// it hands the answer's own error back.
func (c *Client) wants(l *login, res *http.Response, err error) (bool, error) {
	var fault *Fault
	isFault := errors.As(err, &fault) && (fault.HasCode("NotAuthorized") || fault.HasCode("FailedAuthentication"))
	if res.StatusCode != http.StatusUnauthorized && !isFault {
		return false, err
	}
	if c.signIn.Anonymous() {
		return true, &RefusedError{NoSignIn: true}
	}
	offered := httpauth.ParseChallenges(res.Header.Values("WWW-Authenticate"))
	if len(offered) == 0 {
		l.scheme = "WS-UsernameToken"
		return true, nil
	}
	best, err := httpauth.Choose(offered)
	if err != nil {
		return true, err
	}
	l.answer, l.scheme = httpauth.NewAnswer(best, c.signIn.User, c.signIn.Secret.Reveal()), best.Name()
	return true, nil
}

// signed sends a request with the sign-in. Before the sign-in goes out for the first time, and again with a new nonce, leave is
// asked for it; a channel that has taken it may be asked on. A nonce is renewed once.
func (c *Client) signed(ctx context.Context, l *login, service, action, body string, out any) error {
	at, err := url.Parse(c.secured(service))
	if err != nil {
		return err
	}
	for try := 0; ; try++ {
		judged := func(error) {}
		if !l.opened || l.renewed {
			var err error
			if judged, err = c.leave.Ask(ctx, signin.Sending{Scheme: l.scheme, Renewed: l.renewed, Channel: c.tls.Channel(at)}); err != nil {
				c.log.Note("the sign-in is not sent: %v", err)
				*l = login{}
				return err
			}
			l.renewed = false
		}
		renew, err := c.sendSigned(ctx, l, call{at, service, action, body}, out)
		judged(err)
		if renew != nil && try == 0 {
			l.answer, l.renewed = renew, true
			continue
		}
		if renew != nil {
			err = &RefusedError{Scheme: l.scheme}
		}
		return err
	}
}

// A call is one request to a service: where it goes, the service as the device names it, and what is asked.
type call struct {
	at           *url.URL
	service      string
	action, body string
}

// sendSigned sends one signed request. It returns an answer to sign the request with anew where the device says that nothing but
// the nonce was too old.
func (c *Client) sendSigned(ctx context.Context, l *login, x call, out any) (renew *httpauth.Answer, err error) {
	token := l.answer == nil
	authorization := ""
	if !token {
		authorization = l.answer.Header(http.MethodPost, requestURI(x.service))
	}
	// A redirect is not followed with a sign-in: leave was given for this channel.
	res, raw, err := c.postTo(ctx, x.at.String(), x.action, c.envelope(x.body, token), authorization)
	if err != nil {
		return nil, err
	}
	if err := locked(!l.opened, res, raw); err != nil {
		return nil, err
	}
	err = read(res, raw, out)
	l.opened = l.opened || err == nil
	if res.StatusCode == http.StatusUnauthorized && !token {
		offered := httpauth.ParseChallenges(res.Header.Values("WWW-Authenticate"))
		if best, berr := httpauth.Choose(offered); berr == nil && best.Name() == l.scheme && l.answer.OutOfDate(best) {
			return httpauth.NewAnswer(best, c.signIn.User, c.signIn.Secret.Reveal()), signin.ErrStale
		}
		return nil, &RefusedError{Scheme: l.scheme}
	}
	var fault *Fault
	if token && errors.As(err, &fault) && (fault.HasCode("NotAuthorized") && fault.HasCode("Sender") ||
		fault.HasCode("FailedAuthentication")) {
		return nil, &RefusedError{Scheme: l.scheme}
	}
	if token && res.StatusCode == http.StatusUnauthorized {
		return nil, &RefusedError{Scheme: l.scheme}
	}
	return nil, err
}

// locked returns the error for an answer that means a lock, or nil.
func locked(judged bool, res *http.Response, raw []byte) error {
	return signin.LockedOut(judged, res.StatusCode, res.Header.Get("Retry-After"), string(raw[:min(len(raw), 8<<10)]), time.Now())
}

func requestURI(address string) string {
	u, err := url.Parse(address)
	if err != nil {
		return "/"
	}
	return u.RequestURI()
}

func (c *Client) envelope(body string, token bool) string {
	var b strings.Builder
	b.WriteString(`<?xml version="1.0" encoding="utf-8"?><s:Envelope xmlns:s="` + NSSoap + `" xmlns:tt="` + NSSchema + `">`)
	if token {
		b.WriteString("<s:Header>" + c.usernameToken() + "</s:Header>")
	}
	b.WriteString("<s:Body>" + body + "</s:Body></s:Envelope>")
	return b.String()
}

// usernameToken is WS-Security UsernameToken Profile 1.0 with a password digest: base64(SHA-1(nonce + created + password)),
// created in the device's time, because devices refuse tokens that look old.
func (c *Client) usernameToken() string {
	const wss = "http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-"
	nonce := make([]byte, 16)
	rand.Read(nonce)
	created := time.Now().Add(c.skew).UTC().Format("2006-01-02T15:04:05Z")
	return `<w:Security s:mustUnderstand="1" xmlns:w="` + wss + `wssecurity-secext-1.0.xsd" xmlns:u="` + wss +
		`wssecurity-utility-1.0.xsd">` +
		`<w:UsernameToken><w:Username>` + Escape(c.signIn.User) + `</w:Username>` +
		`<w:Password Type="` + wss + `username-token-profile-1.0#PasswordDigest">` + PasswordDigest(nonce, created,
		c.signIn.Secret.Reveal()) + `</w:Password>` +
		`<w:Nonce EncodingType="` + wss + `soap-message-security-1.0#Base64Binary">` + base64.StdEncoding.EncodeToString(nonce) +
		`</w:Nonce>` +
		`<u:Created>` + created + `</u:Created></w:UsernameToken></w:Security>`
}

// PasswordDigest returns the digest of WS-Security UsernameToken Profile 1.0, line 200.
func PasswordDigest(nonce []byte, created, secret string) string {
	sum := sha1.Sum(append(append(append([]byte(nil), nonce...), created...), secret...))
	return base64.StdEncoding.EncodeToString(sum[:])
}

// Escape writes s as XML character data.
func Escape(s string) string {
	var b strings.Builder
	xml.EscapeText(&b, []byte(s))
	return b.String()
}

// reachable puts the host at which the device answers in place of the one that it names, which may be private, old or
// zero. The port and path stay; corrected tells whether anything changed.
func (c *Client) reachable(given string) (out string, corrected bool, err error) {
	u, err := url.Parse(strings.TrimSpace(given))
	if err != nil || u.Host == "" {
		return "", false, &NotSOAPError{Problem: "the device names an address that cannot be read: " + clip(given)}
	}
	own, err := url.Parse(c.device)
	if err != nil {
		return "", false, err
	}
	if u.Hostname() == own.Hostname() {
		return u.String(), false, nil
	}
	if u.Port() == "" {
		u.Host = own.Hostname()
		if strings.Contains(u.Host, ":") {
			u.Host = "[" + u.Host + "]"
		}
	} else {
		u.Host = net.JoinHostPort(own.Hostname(), u.Port())
	}
	return u.String(), true, nil
}

// service returns the address of a service by its namespace, or an error that says that the device has none.
func (c *Client) service(ctx context.Context, namespace string) (string, error) {
	if _, err := c.Services(ctx); err != nil {
		return "", err
	}
	if a := c.services[namespace]; a != "" {
		return a, nil
	}
	return "", &Fault{Codes: []string{"Receiver", "ActionNotSupported"}, Reason: fmt.Sprintf("the device has no service %s", namespace)}
}
