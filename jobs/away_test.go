package jobs_test

import (
	"context"
	"encoding/json"
	"log/slog"
	"net"
	"path/filepath"
	"slices"
	"strconv"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/away"
	"unlatch/core/decide/drift"
	"unlatch/core/decide/watchround"
	"unlatch/core/ground/journal"
	"unlatch/jobs"
	"unlatch/store/storetest"
)

// A cutLine is a line to the database that a test cuts and mends.
type cutLine struct {
	host  string
	mu    sync.Mutex
	conns map[net.Conn]bool
	whole chan struct{} // is closed while the line is whole
}

func newLine(host string) *cutLine {
	l := &cutLine{host: host, conns: map[net.Conn]bool{}, whole: make(chan struct{})}
	close(l.whole)
	return l
}

// Dial waits while the line is cut, as a paired worker's link does.
func (l *cutLine) Dial(ctx context.Context, _, _ string) (net.Conn, error) {
	l.mu.Lock()
	whole := l.whole
	l.mu.Unlock()
	select {
	case <-whole:
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	conn, err := (&net.Dialer{}).DialContext(ctx, "tcp", l.host)
	if err == nil {
		l.mu.Lock()
		defer l.mu.Unlock()
		l.conns[conn] = true
	}
	return conn, err
}

func (l *cutLine) cut() {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.whole = make(chan struct{})
	for conn := range l.conns {
		conn.Close()
	}
	clear(l.conns)
}

func (l *cutLine) mend() {
	l.mu.Lock()
	defer l.mu.Unlock()
	close(l.whole)
}

// A setClock is a clock that a test turns. Its wall clock is an hour ahead.
type setClock struct {
	began time.Time
	mu    sync.Mutex
	ahead time.Duration
}

func (c *setClock) turn(by time.Duration) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.ahead += by
}

func (c *setClock) Stamp() away.Stamp {
	c.mu.Lock()
	defer c.mu.Unlock()
	now := time.Now().Add(c.ahead)
	return away.Stamp{Run: "test", Up: now.Sub(c.began), Wall: now.Add(time.Hour).UTC()}
}

// A line is cut for a day. The worker goes on looking, and what it has seen is filed as of when that was, once, when the line is back: a
// camera that was off for three hours, one whose firmware is another, and one that takes its sign-in no more. The line breaks once more in
// the middle of that.
func TestADayCutOff(t *testing.T) {
	t.Parallel()
	w := watched(t, "127.42.101", watchround.WatchRule{CameraMinutes: 60})
	all := w.ids("11", "12", "13", "14")
	line, clock := newLine(w.s.Pool.Config().ConnConfig.Host), &setClock{began: time.Now()}
	line.host = net.JoinHostPort(line.host, strconv.Itoa(int(w.s.Pool.Config().ConnConfig.Port)))
	kept, _, err := journal.Open(filepath.Join(t.TempDir(), "away"), []byte("seed"), 1<<20)
	require.NoError(t, err)
	t.Cleanup(func() { kept.Close() })
	far := storetest.OpenFarBy(t, w.s, storetest.Pair(t, w.s, true, w.site.ID), line.Dial)
	hooks := w.hooks
	hooks.Journal, hooks.AwayClock, hooks.AwayAfter = kept, clock, time.Second
	workers, err := jobs.StartHooked(far, slog.New(slog.NewTextHandler(w.log, nil)), hooks)
	require.NoError(t, err)
	t.Cleanup(workers.Stop)
	require.Eventually(t, func() bool {
		var by, all int
		require.NoError(t, w.s.Pool.QueryRow(ctx, "SELECT count(*) FILTER (WHERE w.role LIKE 'unlatch_far_%'), count(*) FROM worker_sites s "+
			"JOIN workers w ON w.name = s.worker WHERE s.site_id = $1", w.site.ID).Scan(&by, &all))
		return by == 1 && all == 1
	}, time.Minute, 50*time.Millisecond, "the paired worker reaches the site, and it alone")
	w.look(false, all...)

	line.cut()
	clock.turn(time.Second)
	// A look that nobody can file, as of a later version, keeps no other from being filed.
	strange, err := json.Marshal(away.Look{Thing: all[2], Site: w.site.ID, RoundS: 3600, State: watchround.Up, First: clock.Stamp(),
		Last: clock.Stamp(), Findings: []away.Finding{{Kind: "nothing of the sort", Body: []byte("{}")}}})
	require.NoError(t, err)
	require.NoError(t, kept.Append(strange))
	for hour := range 24 {
		switch hour {
		case 6:
			w.trouble("off", "Clock", "")
		case 9:
			w.trouble("on", "Clock", "")
		case 12:
			w.trouble("firmware", "Bridge", "9.9")
		case 15:
			w.trouble("password", "Coal", "someone-else-12")
		}
		before := kept.Len()
		clock.turn(time.Hour)
		require.Eventually(t, func() bool { return kept.Len() == before+len(all) }, time.Minute, 10*time.Millisecond, "hour %d: %d", hour,
			kept.Len()-before)
	}
	// A day has passed for the database as well.
	for _, sql := range []string{"UPDATE watched SET looked_at = looked_at - interval '1 day'",
		"UPDATE spans SET from_at = from_at - interval '1 day', to_at = to_at - interval '1 day'",
		"ALTER TABLE evidence DISABLE TRIGGER USER", "UPDATE evidence SET at = at - interval '1 day'",
		"ALTER TABLE evidence ENABLE TRIGGER USER", "UPDATE latest_evidence SET at = at - interval '1 day'"} {
		_, err := w.s.Pool.Exec(ctx, sql)
		require.NoError(t, err, sql)
	}
	cut := time.Now()
	line.mend()
	filed := func() (n int) {
		require.NoError(t, w.s.Pool.QueryRow(ctx, "SELECT count(*) FROM watched WHERE NOT target AND looked_at > now() - "+
			"interval '23 hours'").Scan(&n))
		return n
	}
	require.Eventually(t, func() bool { return filed() > 0 }, time.Minute, time.Millisecond)
	line.cut()
	time.Sleep(100 * time.Millisecond)
	line.mend()
	require.Eventually(t, func() bool { return kept.Len() == 0 && filed() == len(all) }, 2*time.Minute, 20*time.Millisecond)

	spans, err := w.s.Watched.Spans(ctx, w.site.ID, uuid.Nil, cut.Add(-23*time.Hour), cut)
	require.NoError(t, err)
	for _, id := range all {
		var states []watchround.State
		for _, s := range watchround.Whole(spans[id], cut.Add(-22*time.Hour), cut.Add(-time.Hour), time.Hour) {
			states = append(states, s.State)
		}
		want := map[uuid.UUID][]watchround.State{all[0]: {watchround.Up, watchround.Down, watchround.Up},
			all[1]: {watchround.Up, watchround.Changed}, all[3]: {watchround.Up, watchround.Changed}}[id]
		if want == nil {
			want = []watchround.State{watchround.Up}
		}
		assert.Equal(t, want, states, "%v", spans[id])
	}
	assert.Equal(t, []string{"Bridge firmware", "Coal password"}, w.drifted())
	i := slices.IndexFunc(w.episodes(), func(e drift.Episode) bool { return e.Title == "Bridge" })
	began := cut.Sub(w.episodes()[i].Before)
	assert.InDelta(t, 12, began.Hours(), 1.5, "when it was, by the clock of the database")
	var tries []time.Duration
	rows, err := w.s.Pool.Query(ctx, "SELECT at FROM tries WHERE device_id = $1 AND result = 'refused'", all[3])
	require.NoError(t, err)
	for rows.Next() {
		var at time.Time
		require.NoError(t, rows.Scan(&at))
		tries = append(tries, cut.Sub(at))
	}
	require.Len(t, tries, 1, "one was sent, and counts")
	assert.InDelta(t, 9, tries[0].Hours(), 1.5)
	var firmware, silent int
	require.NoError(t, w.s.Pool.QueryRow(ctx, "SELECT count(*) FROM evidence WHERE device_id = $1 AND kind = 'signed_in' AND body::text LIKE "+
		"'%9.9%'", all[1]).Scan(&firmware))
	assert.Equal(t, 1, firmware, "nothing is filed twice")
	require.NoError(t, w.s.Pool.QueryRow(ctx, "SELECT count(*) FROM drifts WHERE device_id = $1 AND cause = 'silent'", all[0]).Scan(&silent))
	assert.Equal(t, 1, silent)
	w.look(false, all...)
	assert.NotContains(t, w.log.String(), "brass-lamp-41")
}
