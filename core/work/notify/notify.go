// Package notify sends messages of the watch to people and programs: by mail, to a webhook, to an MQTT topic. A server is a stranger: its
// answers are bounded in time and size, a redirect is not followed, and a password goes out over TLS only.
package notify

import (
	"bytes"
	"cmp"
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	mqtt "github.com/eclipse/paho.mqtt.golang"
	"github.com/wneessen/go-mail"

	"unlatch/core/decide/telling"
	"unlatch/core/ground/signin"
	"unlatch/core/ground/wiretext"
)

// A Sender sends messages. The zero value is usable.
type Sender struct {
	// Dial opens connections; nil for the network of the machine.
	Dial func(ctx context.Context, network, address string) (net.Conn, error)
	// Roots vouch for servers; nil for those of the machine.
	Roots *x509.CertPool
	// Now is the clock; nil for time.Now.
	Now func() time.Time
}

// timeout is how long one message may take.
const timeout = 20 * time.Second

// mostAnswer bounds what is read of a webhook's answer.
const mostAnswer = 4 << 10

// A GoneError means that whoever is told does not want to hear any more: it answered 410 (RFC 9110 §15.5.11).
type GoneError struct{}

func (e *GoneError) Error() string { return "it answers that it is gone for good (410)" }

// A ClearError means that a password would go out so that it can be read.
type ClearError struct{ Server string }

func (e *ClearError) Error() string {
	return "the password would be readable on the way to " + e.Server + ": give an address with TLS, or no user"
}

// Send sends a message. id tells it from all others, so that whoever gets it twice can tell. secret is the password at the server, or of a
// webhook what its signature is made with.
func (s Sender) Send(ctx context.Context, r telling.Listener, secret signin.Secret, id int64, m telling.Message) error {
	ctx, done := context.WithTimeout(ctx, timeout)
	defer done()
	if s.Dial == nil {
		s.Dial = (&net.Dialer{Timeout: 5 * time.Second}).DialContext
	}
	if s.Now == nil {
		s.Now = time.Now
	}
	switch r.Way {
	case telling.Mail:
		return s.mail(ctx, r, secret, m)
	case telling.Webhook:
		return s.webhook(ctx, r, secret, id, m)
	case telling.MQTT:
		return s.publish(ctx, r, secret, m)
	}
	return fmt.Errorf("there is no way %q", r.Way)
}

func (s Sender) tls(host string) *tls.Config {
	return &tls.Config{ServerName: host, RootCAs: s.Roots, MinVersion: tls.VersionTLS12}
}

func (s Sender) mail(ctx context.Context, r telling.Listener, secret signin.Secret, m telling.Message) error {
	u, err := url.Parse(r.Server)
	if err != nil {
		return errors.New("the address of the mail server cannot be read")
	}
	msg := mail.NewMsg(mail.WithNoDefaultUserAgent())
	if err := msg.From(r.Sender); err != nil {
		return fmt.Errorf("the sender's address: %w", err)
	}
	for _, to := range strings.Split(r.To, ",") {
		if err := msg.AddTo(strings.TrimSpace(to)); err != nil {
			return fmt.Errorf("an address to write to: %w", err)
		}
	}
	msg.Subject(m.Subject())
	msg.SetDateWithValue(m.At)
	msg.SetMessageID()
	msg.SetBodyString(mail.TypeTextPlain, m.Text())
	port, _ := strconv.Atoi(u.Port())
	options := []mail.Option{mail.WithTLSConfig(s.tls(u.Hostname())), mail.WithTimeout(timeout), mail.WithDialContextFunc(s.Dial),
		mail.WithoutNoop()}
	switch {
	case u.Scheme == "smtps":
		options = append(options, mail.WithSSL(), mail.WithPort(cmp.Or(port, 465)))
	case r.User != "":
		options = append(options, mail.WithTLSPolicy(mail.TLSMandatory), mail.WithPort(cmp.Or(port, 587)))
	default:
		options = append(options, mail.WithTLSPolicy(mail.TLSOpportunistic), mail.WithPort(cmp.Or(port, 587)))
	}
	if r.User != "" {
		options = append(options, mail.WithSMTPAuth(mail.SMTPAuthAutoDiscover), mail.WithUsername(r.User), mail.WithPassword(secret.Reveal()))
	}
	c, err := mail.NewClient(u.Hostname(), options...)
	if err != nil {
		return err
	}
	return c.DialAndSendWithContext(ctx, msg)
}

// Headers of a webhook's request.
const (
	HeaderTime      = "Unlatch-Time"      // seconds since 1970
	HeaderMessage   = "Unlatch-Message"   // the message's number: the same for one that comes twice
	HeaderSignature = "Unlatch-Signature" // see Sign
)

// Sign returns the signature of a request: the HMAC-SHA256 (RFC 2104), in hex, of the time as it stands in the header, a dot, and the body.
func Sign(secret signin.Secret, at string, body []byte) string {
	h := hmac.New(sha256.New, []byte(secret.Reveal()))
	h.Write([]byte(at + "."))
	h.Write(body)
	return hex.EncodeToString(h.Sum(nil))
}

func (s Sender) webhook(ctx context.Context, r telling.Listener, secret signin.Secret, id int64, m telling.Message) error {
	body, err := json.Marshal(m)
	if err != nil {
		return err
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, r.To, bytes.NewReader(body))
	if err != nil {
		return errors.New("the address of the webhook cannot be read")
	}
	at := strconv.FormatInt(s.Now().Unix(), 10)
	req.Header.Set("Content-Type", "application/json")
	req.Header.Set(HeaderTime, at)
	req.Header.Set(HeaderMessage, strconv.FormatInt(id, 10))
	if !secret.Empty() {
		req.Header.Set(HeaderSignature, Sign(secret, at, body))
	}
	c := http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
		Transport: &http.Transport{DialContext: s.Dial, TLSClientConfig: s.tls(req.URL.Hostname()), DisableKeepAlives: true,
			ResponseHeaderTimeout: timeout, MaxResponseHeaderBytes: 16 << 10}}
	res, err := c.Do(req)
	if err != nil {
		return plain(err)
	}
	defer res.Body.Close()
	io.Copy(io.Discard, io.LimitReader(res.Body, mostAnswer))
	switch {
	case res.StatusCode == http.StatusGone:
		return &GoneError{}
	case res.StatusCode >= 300 && res.StatusCode < 400:
		return fmt.Errorf("it answers with a redirect (%d), which is not followed: give its last address", res.StatusCode)
	case res.StatusCode >= 300:
		return fmt.Errorf("it answers %s", wiretext.Line(res.Status, 80))
	}
	return nil
}

// plain returns an error without the URL in it, which may hold a key of the webhook.
func plain(err error) error {
	if e := new(url.Error); errors.As(err, &e) {
		return e.Err
	}
	return err
}

func (s Sender) publish(ctx context.Context, r telling.Listener, secret signin.Secret, m telling.Message) error {
	u, err := url.Parse(r.Server)
	if err != nil {
		return errors.New("the address of the broker cannot be read")
	}
	if r.User != "" && u.Scheme != "mqtts" {
		return &ClearError{u.Host}
	}
	body, err := json.Marshal(m)
	if err != nil {
		return err
	}
	usual := map[string]string{"mqtt": "1883", "mqtts": "8883"}
	conn, err := s.Dial(ctx, "tcp", net.JoinHostPort(u.Hostname(), cmp.Or(u.Port(), usual[u.Scheme])))
	if err != nil {
		return err
	}
	defer conn.Close()
	if u.Scheme == "mqtts" {
		secure := tls.Client(conn, s.tls(u.Hostname()))
		if err := secure.HandshakeContext(ctx); err != nil {
			return err
		}
		conn = secure
	}
	o := mqtt.NewClientOptions().AddBroker("tcp://broker").SetClientID("unlatch-" + rand.Text()[:12]).SetAutoReconnect(false).
		SetConnectTimeout(5 * time.Second).SetWriteTimeout(5 * time.Second).SetProtocolVersion(4).
		SetCustomOpenConnectionFn(func(*url.URL, mqtt.ClientOptions) (net.Conn, error) { return conn, nil })
	if r.User != "" {
		o.SetUsername(r.User).SetPassword(secret.Reveal())
	}
	c := mqtt.NewClient(o)
	defer c.Disconnect(100)
	for _, begin := range []func() mqtt.Token{c.Connect, func() mqtt.Token { return c.Publish(r.To, 1, false, body) }} {
		t := begin()
		select {
		case <-t.Done():
			if t.Error() != nil {
				return t.Error()
			}
		case <-ctx.Done():
			return errors.New("the broker does not answer")
		}
	}
	return nil
}
