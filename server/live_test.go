package server

import (
	"context"
	"encoding/json"
	"log/slog"
	"net/http"
	"net/netip"
	"net/url"
	"testing"
	"time"

	"github.com/coder/websocket"
	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/stream/sighting"
	"unlatch/jobs"
	"unlatch/sim/simtest"
	"unlatch/store/storetest"
)

// looker is a page that looks at a stream.
type looker struct {
	t    *testing.T
	conn *websocket.Conn
}

func (p *page) look(device uuid.UUID, query string) looker {
	conn, res, err := websocket.Dial(p.t.Context(), "ws"+p.url[4:]+"/api/devices/"+device.String()+"/live?"+query,
		&websocket.DialOptions{HTTPClient: p.client})
	require.NoError(p.t, err)
	require.Equal(p.t, http.StatusSwitchingProtocols, res.StatusCode)
	conn.SetReadLimit(16 << 20)
	p.t.Cleanup(func() { conn.CloseNow() })
	return looker{p.t, conn}
}

// word reads on to the next text message.
func (l looker) word() (w liveWord) {
	for {
		kind, b, err := l.conn.Read(l.t.Context())
		require.NoError(l.t, err)
		if kind == websocket.MessageText {
			require.NoError(l.t, json.Unmarshal(b, &w))
			return w
		}
	}
}

// A worker on another machine sends its pictures by a connection that it opens; without one, and once it has gone, the page is told why.
func TestPicturesFromAWorkerElsewhere(t *testing.T) {
	w := simtest.Start(t, `
name: elsewhere
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: Clock, maker: corvane, model: V4, address: 127.44.96.11, scene: platform-clock, streams: [{width: 320, height: 180,
       fps: 10, kbps: 200, gop: 10}]}
`)
	p, s, _ := serve(t, storetest.URL(t))
	p.setUp()
	x := &shed{p: p, s: s}
	x.site = get[siteView](p, "POST", "/api/sites", map[string]any{"name": "Far", "ranges": []string{"127.44.96.0/24"}})
	id, err := s.Devices.Sight(t.Context(), x.site.ID, nil, sighting.Sighting{Method: sighting.WSDiscovery, At: time.Now(),
		Addr: netip.MustParseAddr("127.44.96.11"), Endpoint: w.Device("Clock").Endpoint(), Kind: sighting.Camera, Name: "Clock"})
	require.NoError(t, err)

	word := p.look(id, "role=main").word()
	require.NotNil(t, word.Trouble)
	assert.Contains(t, word.Problem, "no connection for pictures")
	assert.True(t, word.Again)

	workers, err := jobs.StartWorkers(s, slog.New(slog.DiscardHandler), jobs.Options{})
	require.NoError(t, err)
	t.Cleanup(workers.Stop)
	to, err := url.Parse(p.url)
	require.NoError(t, err)
	ctx, leave := context.WithCancel(t.Context())
	go workers.SendPictures(ctx, jobs.ServerAddress{URL: to})
	require.Eventually(t, func() bool {
		word = p.look(id, "role=main").word()
		return word.Trouble != nil && !word.Again
	}, 20*time.Second, 50*time.Millisecond)
	assert.Contains(t, word.Problem, "not proven yet", "the worker itself says why")

	x.provenBy(t, id, "127.44.96.11", w.Device("Clock").URL(0))
	l := p.look(id, "role=main")
	word = l.word()
	require.NotNil(t, word.Begin, "%+v", word.Trouble)
	assert.Equal(t, []any{320, 180}, []any{word.Width, word.Height})
	for word.Measures == nil {
		word = l.word()
	}
	assert.Positive(t, word.Measures[0].Kbps)
	leave()
	for word.Trouble == nil {
		word = l.word()
	}
	assert.Contains(t, word.Problem, "gone away")
	assert.True(t, word.Again)
}

// Nobody connects as a worker who does not hold the key, twice with one pass, or late.
func TestAWorkersPass(t *testing.T) {
	t.Parallel()
	p, s, _ := serve(t, storetest.URL(t))
	workers, err := jobs.StartWorkers(s, slog.New(slog.DiscardHandler), jobs.Options{})
	require.NoError(t, err)
	t.Cleanup(workers.Stop)
	connect := func(pass string) int {
		conn, res, err := websocket.Dial(t.Context(), "ws"+p.url[4:]+jobs.PicturesPath,
			&websocket.DialOptions{HTTPHeader: http.Header{"Authorization": {pass}}})
		if err == nil {
			conn.CloseNow()
		}
		return res.StatusCode
	}
	for _, wrong := range []string{"", "Bearer ", "Bearer abc", "Basic abc"} {
		assert.Equal(t, 401, connect(wrong))
	}
	p.setUp()
	site := get[siteView](p, "POST", "/api/sites", map[string]any{"name": "Far", "ranges": []string{"127.44.97.0/24"}}).ID
	var name string
	require.Eventually(t, func() bool {
		names, err := s.Workers.Reaching(t.Context(), site)
		if err == nil && len(names) > 0 {
			name = names[0]
		}
		return name != ""
	}, 20*time.Second, 20*time.Millisecond)
	good, err := s.Workers.Pass(name, time.Now())
	require.NoError(t, err)
	assert.Equal(t, 101, connect("Bearer "+good))
	assert.Equal(t, 401, connect("Bearer "+good), "it is good once")
	old, _ := s.Workers.Pass(name, time.Now().Add(-time.Hour))
	assert.Equal(t, 401, connect("Bearer "+old))
	nobody, _ := s.Workers.Pass("nobody", time.Now())
	assert.Equal(t, 401, connect("Bearer "+nobody))
	_, other, _ := serve(t, storetest.URL(t))
	foreign, err := other.Workers.Pass(name, time.Now())
	require.NoError(t, err)
	assert.Equal(t, 401, connect("Bearer "+foreign), "another key")
}
