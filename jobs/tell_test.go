package jobs_test

import (
	"encoding/json"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/emersion/go-smtp"
	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/act"
	"unlatch/core/decide/drift"
	"unlatch/core/decide/telling"
	"unlatch/core/ground/address"
	"unlatch/core/ground/signin"
	"unlatch/core/stream/sighting"
	"unlatch/core/work/notify"
	"unlatch/jobs"
	"unlatch/sim/simtest"
	"unlatch/store"
	"unlatch/store/storetest"
)

// A letterbox is a mail server that keeps what it is sent; while it is busy it takes nothing (RFC 5321 §4.5.1).
type letterbox struct {
	mu   sync.Mutex
	got  []string
	busy atomic.Bool
}

func (b *letterbox) NewSession(*smtp.Conn) (smtp.Session, error) { return b, nil }
func (b *letterbox) Reset()                                      {}
func (b *letterbox) Logout() error                               { return nil }
func (b *letterbox) Rcpt(string, *smtp.RcptOptions) error        { return nil }

func (b *letterbox) Mail(string, *smtp.MailOptions) error {
	if b.busy.Load() {
		return &smtp.SMTPError{Code: 451, Message: "come again"}
	}
	return nil
}

func (b *letterbox) Data(r io.Reader) error {
	raw, err := io.ReadAll(r)
	b.mu.Lock()
	defer b.mu.Unlock()
	b.got = append(b.got, string(raw))
	return err
}

func (b *letterbox) mails() []string {
	b.mu.Lock()
	defer b.mu.Unlock()
	return append([]string{}, b.got...)
}

// A parlour is a site without devices that answer, whose drifts a test writes itself.
type parlour struct {
	t      *testing.T
	s      *store.Store
	site   store.Site
	desk   jobs.Desk
	person act.Person
	camera uuid.UUID
}

func newParlour(t *testing.T, addr string) *parlour {
	s := storetest.Open(t)
	q, err := jobs.NewQueue(s, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	p := &parlour{t: t, s: s, desk: jobs.Desk{Store: s, Queue: q}}
	p.site, err = s.Sites.Create(ctx, "Tarn Ferry", address.MustParse("192.0.2.0/24"))
	require.NoError(t, err)
	require.NoError(t, s.Sites.SetWatch(ctx, p.site.ID, false))
	p.person, err = s.People.CreateFirst(ctx, "Owner Olive", "x")
	require.NoError(t, err)
	p.camera, err = s.Devices.Sight(ctx, p.site.ID, nil, sighting.Sighting{Method: sighting.WSDiscovery, At: time.Now(), Kind: sighting.Camera,
		Addr: netip.MustParseAddr(addr), Endpoint: "urn:" + addr})
	require.NoError(t, err)
	w, err := jobs.StartHooked(s, slog.New(slog.DiscardHandler), jobs.Hooks{TellEvery: 60 * time.Millisecond})
	require.NoError(t, err)
	t.Cleanup(w.Stop)
	return p
}

// tells makes a rule.
func (p *parlour) tells(r telling.Listener, secret string) uuid.UUID {
	p.t.Helper()
	id := uuid.New()
	_, err := p.desk.Do(ctx, p.person, act.PutTellRule{ID: id, Site: p.site.ID, Rule: r, Secret: signin.NewSecret(secret)})
	require.NoError(p.t, err)
	return id
}

// drifts has the camera drift in some ways, or in none any more.
func (p *parlour) drifts(causes ...drift.Cause) {
	p.t.Helper()
	found := []drift.Drift{}
	for _, c := range causes {
		found = append(found, drift.Drift{Device: p.camera, Title: "Platform clock\r\nBcc: all@example.org", Cause: c})
	}
	require.NoError(p.t, p.s.Drifts.Settle(ctx, store.FoundDrifts{Site: p.site.ID, Of: p.camera, Drifts: found, At: time.Now()}))
}

func (p *parlour) eventually(what func() bool, why string) {
	p.t.Helper()
	require.Eventually(p.t, what, 30*time.Second, 20*time.Millisecond, why)
}

// What drifts is told by mail and by a signed webhook, once, and once more when it is over; slighter causes than a rule wants are not.
func TestDriftIsTold(t *testing.T) {
	t.Parallel()
	p := newParlour(t, "192.0.2.7")
	box := &letterbox{}
	l, err := net.Listen("tcp4", "127.0.0.1:0")
	require.NoError(t, err)
	mail := smtp.NewServer(box)
	go mail.Serve(l)
	t.Cleanup(func() { mail.Close() })
	var hook sync.Map
	secret := signin.NewSecret("oak-door-52")
	url := simtest.Serve(t, "127.0.0.1", func(_ http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		assert.Equal(t, notify.Sign(secret, r.Header.Get(notify.HeaderTime), body), r.Header.Get(notify.HeaderSignature))
		var m telling.Message
		assert.NoError(t, json.Unmarshal(body, &m))
		hook.Store(r.Header.Get(notify.HeaderMessage), m)
	})
	hooked := func() (out []string) {
		hook.Range(func(_, m any) bool { out = append(out, m.(telling.Message).Headline); return true })
		return out
	}
	p.tells(telling.Listener{Name: "Duty", Way: telling.Mail, To: "duty@example.org", Sender: "bench@example.org",
		Server: "smtp://" + l.Addr().String(), From: "urgent"}, "")
	desk := p.tells(telling.Listener{Name: "Desk", Way: telling.Webhook, To: url, From: "notice"}, "oak-door-52")

	p.drifts(drift.Silent, drift.Firmware)
	p.eventually(func() bool { return len(box.mails()) == 1 && len(hooked()) == 2 }, "told")
	assert.Contains(t, strings.ReplaceAll(box.mails()[0], "\r\n ", " "), "does not answer (urgent)")
	assert.NotContains(t, box.mails()[0], "\nBcc:", "a name begins no header")
	p.drifts()
	p.eventually(func() bool { return len(box.mails()) == 2 && len(hooked()) == 4 }, "told that it is over")
	assert.Contains(t, box.mails()[1], "Over:")

	// A test arrives, and says that it is one.
	_, err = p.desk.Do(ctx, p.person, act.TestTelling{ID: desk, Site: p.site.ID, Name: "Desk"})
	require.NoError(t, err)
	p.eventually(func() bool { return strings.Contains(strings.Join(hooked(), "\n"), "This is a test") }, "the test")
	assert.Len(t, box.mails(), 2)
}

// A mail server that takes nothing for a while loses nothing, keeps the order, and is not flooded when it is back.
func TestAServerThatIsAway(t *testing.T) {
	t.Parallel()
	p := newParlour(t, "192.0.2.8")
	box := &letterbox{}
	box.busy.Store(true)
	l, err := net.Listen("tcp4", "127.0.0.1:0")
	require.NoError(t, err)
	mail := smtp.NewServer(box)
	go mail.Serve(l)
	t.Cleanup(func() { mail.Close() })
	rule := p.tells(telling.Listener{Name: "Duty", Way: telling.Mail, To: "duty@example.org", Sender: "bench@example.org",
		Server: "smtp://" + l.Addr().String(), From: "notice"}, "")
	causes := []drift.Cause{drift.Silent, drift.Firmware, drift.Covered, drift.Clock, drift.Certificate, drift.Moved, drift.Password,
		drift.Blurred}
	for i := range causes {
		p.drifts(causes[:i+1]...)
		p.eventually(func() bool {
			told, err := p.s.Tellings.Told(ctx, rule)
			return err == nil && len(told) == i+1
		}, "queued")
	}
	p.eventually(func() bool {
		next, err := p.s.Tellings.Next(ctx, rule)
		return err == nil && next.Tries >= 3
	}, "tried")
	p.eventually(func() bool {
		r, err := p.s.Tellings.Rule(ctx, rule)
		return err == nil && strings.Contains(r.Problem, "451")
	}, "what the server says is shown")
	box.busy.Store(false)
	p.eventually(func() bool { list, err := p.s.Tellings.Pending(ctx, rule); return err == nil && len(list) == 0 }, "delivered")
	mails := box.mails()
	assert.LessOrEqual(t, len(mails), 3, "they come together")
	all := strings.Join(mails, "\n")
	for _, words := range []string{"does not answer", "another firmware", "stands before the lens", "clock of", "another certificate",
		"another address", "refuses the sign-in", "out of focus"} {
		assert.Contains(t, strings.ReplaceAll(all, "=\r\n", ""), words)
	}
}

// Who answers that it is gone for good is told nothing any more, and that is shown.
func TestAWebhookThatIsGone(t *testing.T) {
	t.Parallel()
	p := newParlour(t, "192.0.2.9")
	var asked atomic.Int32
	url := simtest.Serve(t, "127.0.0.1", func(w http.ResponseWriter, _ *http.Request) { asked.Add(1); w.WriteHeader(http.StatusGone) })
	rule := p.tells(telling.Listener{Name: "Desk", Way: telling.Webhook, To: url, From: "notice"}, "")
	p.drifts(drift.Silent)
	p.eventually(func() bool { r, err := p.s.Tellings.Rule(ctx, rule); return err == nil && r.Off != "" }, "switched off")
	p.drifts(drift.Silent, drift.Firmware)
	time.Sleep(300 * time.Millisecond) // nothing happens in it: that is what is looked for
	assert.EqualValues(t, 1, asked.Load())
}
