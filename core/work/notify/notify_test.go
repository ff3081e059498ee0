package notify

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/emersion/go-smtp"
	mochi "github.com/mochi-mqtt/server/v2"
	"github.com/mochi-mqtt/server/v2/hooks/auth"
	"github.com/mochi-mqtt/server/v2/listeners"
	"github.com/mochi-mqtt/server/v2/packets"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/telling"
	"unlatch/core/ground/signin"
)

var message = telling.Message{Kind: telling.Drifted, SiteName: "Tarn Ferry", Headline: "Platform clock does not answer", Severity: "urgent",
	Do: "Look at its power."}

// A mailbox is a mail server that keeps what it is sent.
type mailbox struct {
	mu   sync.Mutex
	got  []string
	says error // to each mail; nil takes it
}

func (m *mailbox) NewSession(*smtp.Conn) (smtp.Session, error) { return session{m}, nil }

type session struct{ *mailbox }

func (s session) Reset()                               {}
func (s session) Logout() error                        { return nil }
func (s session) Mail(string, *smtp.MailOptions) error { return s.says }
func (s session) Rcpt(string, *smtp.RcptOptions) error { return nil }
func (s session) Data(r io.Reader) error {
	raw, err := io.ReadAll(r)
	s.mu.Lock()
	defer s.mu.Unlock()
	s.got = append(s.got, string(raw))
	return err
}

func serveMail(t *testing.T, box *mailbox) string {
	l, err := net.Listen("tcp4", "127.0.0.1:0")
	require.NoError(t, err)
	s := smtp.NewServer(box)
	s.AllowInsecureAuth = true
	go s.Serve(l)
	t.Cleanup(func() { s.Close() })
	return "smtp://" + l.Addr().String()
}

func TestMail(t *testing.T) {
	box := &mailbox{}
	rule := telling.Listener{Way: telling.Mail, To: "duty@example.org, second@example.org", Sender: "bench@example.org",
		Server: serveMail(t, box)}
	require.NoError(t, Sender{}.Send(context.Background(), rule, signin.Secret{}, 1, message))
	require.Len(t, box.got, 1)
	assert.Contains(t, box.got[0], "Subject: Tarn Ferry: Platform clock does not answer (urgent)")
	assert.Contains(t, box.got[0], "Look at its power.")

	// A password is not sent where it could be read.
	rule.User = "bench"
	err := Sender{}.Send(context.Background(), rule, signin.NewSecret("brass-lamp-41"), 1, message)
	require.Error(t, err)
	assert.NotContains(t, err.Error(), "brass-lamp-41")
	assert.Len(t, box.got, 1)

	box.says = &smtp.SMTPError{Code: 451, Message: "try again later"}
	rule.User = ""
	assert.ErrorContains(t, Sender{}.Send(context.Background(), rule, signin.Secret{}, 1, message), "451")
}

// A webhook gets the message with a signature over time and body. What it answers decides; a redirect is not followed.
func TestWebhook(t *testing.T) {
	secret := signin.NewSecret("oak-door-52")
	answer, inside := http.StatusNoContent, 0
	var got telling.Message
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/inside" {
			inside++
			return
		}
		body, _ := io.ReadAll(r.Body)
		assert.Equal(t, Sign(secret, r.Header.Get(HeaderTime), body), r.Header.Get(HeaderSignature))
		assert.Equal(t, "7", r.Header.Get(HeaderMessage))
		assert.NoError(t, json.Unmarshal(body, &got))
		if answer == http.StatusFound {
			w.Header().Set("Location", "/inside")
		}
		w.WriteHeader(answer)
		io.WriteString(w, strings.Repeat("x", 1<<20))
	}))
	defer s.Close()
	send := func() error {
		return Sender{}.Send(context.Background(), telling.Listener{Way: telling.Webhook, To: s.URL + "/key-in-path"}, secret, 7, message)
	}
	require.NoError(t, send())
	assert.Equal(t, message.Headline, got.Headline)
	answer = http.StatusGone
	assert.ErrorAs(t, send(), new(*GoneError))
	answer = http.StatusFound
	assert.ErrorContains(t, send(), "redirect")
	assert.Zero(t, inside)
	answer = http.StatusInternalServerError
	assert.ErrorContains(t, send(), "500")
	s.Close()
	err := send()
	require.Error(t, err)
	assert.NotContains(t, err.Error(), "key-in-path", "an address may hold a key")
}

// A webhook that takes the request and never answers is left after a while.
func TestASilentWebhook(t *testing.T) {
	l, err := net.Listen("tcp4", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	ctx, done := context.WithTimeout(context.Background(), 300*time.Millisecond)
	defer done()
	err = Sender{}.Send(ctx, telling.Listener{Way: telling.Webhook, To: "http://" + l.Addr().String()}, signin.Secret{}, 1, message)
	assert.True(t, errors.Is(err, context.DeadlineExceeded), err)
}

func TestMQTT(t *testing.T) {
	broker := mochi.New(&mochi.Options{InlineClient: true})
	require.NoError(t, broker.AddHook(new(auth.AllowHook), nil))
	l, err := net.Listen("tcp4", "127.0.0.1:0")
	require.NoError(t, err)
	require.NoError(t, broker.AddListener(listeners.NewNet("t", l)))
	go broker.Serve()
	defer broker.Close()
	got := make(chan string, 1)
	require.NoError(t, broker.Subscribe("unlatch/ferry", 1, func(_ *mochi.Client, _ packets.Subscription, p packets.Packet) {
		got <- string(p.Payload)
	}))
	rule := telling.Listener{Way: telling.MQTT, To: "unlatch/ferry", Server: "mqtt://" + l.Addr().String()}
	require.NoError(t, Sender{}.Send(context.Background(), rule, signin.Secret{}, 1, message))
	assert.Contains(t, <-got, "Platform clock does not answer")
	rule.User = "bench"
	assert.ErrorAs(t, Sender{}.Send(context.Background(), rule, signin.NewSecret("oak-door-52"), 1, message), new(*ClearError))
}
