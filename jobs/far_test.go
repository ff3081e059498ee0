package jobs_test

import (
	"fmt"
	"log/slog"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/act"
	"unlatch/core/decide/latch"
	"unlatch/core/ground/address"
	"unlatch/core/ground/signin"
	"unlatch/core/ground/trouble"
	"unlatch/jobs"
	"unlatch/store"
	"unlatch/store/storetest"
)

// workFar begins a worker with the rights of a paired one, for the bench's site.
func (b *bench) workFar(shared bool) (*jobs.Workers, act.RevokeWorker) {
	b.t.Helper()
	i := storetest.Pair(b.t, b.s, shared, b.site.ID)
	far := storetest.OpenFar(b.t, b.s, i)
	w, err := jobs.StartHooked(far, slog.New(slog.NewTextHandler(b.log, nil)), b.hooks)
	require.NoError(b.t, err)
	b.t.Cleanup(w.Stop)
	return w, storetest.Revoke(i)
}

// A paired worker finds, opens and places the cameras of its site with its own rights, and no other takes that work meanwhile.
func TestAPairedWorkerGoesTheWholeWay(t *testing.T) {
	t.Parallel()
	b := set(t, storetest.URL(t), "127.42.95", 5)
	b.work() // leads the queue, and takes nothing of this site
	other, err := b.s.Sites.Create(ctx, "Elsewhere", address.MustParse("127.42.94.0/24"))
	require.NoError(t, err)
	_, err = b.s.SignIns.AddAll(ctx, signin.New{Label: "Fitter", User: "fitter", Secret: signin.NewSecret("brass-lamp-41"),
		Terms: signin.Terms{Site: &b.site.ID}}, signin.New{Label: "All", User: "all", Secret: signin.NewSecret("wrong-key-52")})
	require.NoError(t, err)
	b.workFar(false)
	require.Eventually(t, func() bool {
		var by, all int
		require.NoError(t, b.s.Pool.QueryRow(ctx, "SELECT count(*) FILTER (WHERE w.role LIKE 'unlatch_far_%'), count(*) FROM worker_sites s "+
			"JOIN workers w ON w.name = s.worker WHERE s.site_id = $1", b.site.ID).Scan(&by, &all))
		return by == 1 && all == 1
	}, time.Minute, 50*time.Millisecond, "the paired worker reaches the site, and it alone")
	var reached int
	require.NoError(t, b.s.Pool.QueryRow(ctx, "SELECT count(*) FROM worker_sites WHERE site_id = $1", other.ID).Scan(&reached))
	assert.Equal(t, 1, reached, "other sites are the server's own worker's")
	b.sweep()
	opened := b.wait(b.open(b.ids(append(six, "20")...)))
	require.Empty(t, opened.Problem, "%s", b.log)
	for _, n := range six {
		assert.Equal(t, latch.Placed, b.device(n).Status.At(), "%s %+v", n, b.device(n).Status.Latches)
	}
	// The sign-in that is for every site is not for this worker.
	b.wait(b.open(b.ids("17")))
	l := b.device("17").Status.Latch(latch.SignedIn)
	require.NotNil(t, l.Diagnosis, "%+v", l)
	assert.Equal(t, trouble.WrongSignIn, l.Diagnosis.Cause)
	var tried int
	require.NoError(t, b.s.Pool.QueryRow(ctx, "SELECT count(*) FROM tries t JOIN sign_ins s ON s.id = t.sign_in_id WHERE s.site_id IS "+
		"NULL").Scan(&tried))
	assert.Zero(t, tried)
	require.NoError(t, b.s.Targets.Wish(ctx, act.InAnySlot(b.names["20"], b.ids("11", "12")...)))
	b.agreeForTarget(b.names["20"])
	b.wait(b.open(b.ids("11", "12")))
	for _, n := range []string{"11", "12"} {
		assert.Empty(t, b.device(n).Status.At(), "%+v", b.device(n).Status.Latches)
	}
	assert.NotContains(t, b.log.String(), "permission denied")
	assert.NotContains(t, b.log.String(), "row-level security")
}

// A worker that is revoked in the middle of a run is cut off at once; the server's own worker goes on where it was, and nothing is lost.
func TestAWorkerRevokedInTheMiddleOfARun(t *testing.T) {
	t.Parallel()
	b := set(t, storetest.URL(t), "127.42.96", 0)
	_, err := b.s.SignIns.Add(ctx, signin.New{Label: "Fitter", User: "fitter", Secret: signin.NewSecret("brass-lamp-41"),
		Terms: signin.Terms{Site: &b.site.ID}})
	require.NoError(t, err)
	b.work()
	w, revoke := b.workFar(false)
	b.sweep()
	run, err := b.open(b.ids(six...))
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		for _, d := range b.devices() {
			if d.Status.Latch(latch.SignedIn).State == latch.Open {
				return true
			}
		}
		return false
	}, time.Minute, 5*time.Millisecond)
	_, err = b.s.Acts().Keep(ctx, storetest.Owner, revoke.About(), revoke)
	require.NoError(t, err)
	var left int
	require.NoError(t, b.s.Pool.QueryRow(ctx, "SELECT count(*) FROM pg_stat_activity WHERE usename LIKE 'unlatch_far_%' AND datname = "+
		"current_database()").Scan(&left))
	assert.Zero(t, left, "its connections have ended")
	b.ended(run, nil)
	for _, n := range six {
		assert.Equal(t, latch.Placed, b.device(n).Status.At(), "%s %+v", n, b.device(n).Status.Latches)
	}
	got, err := b.s.Runs.Get(ctx, run.ID)
	require.NoError(t, err)
	assert.EqualValues(t, len(six), got.Done, "each camera counted once")
	w.Stop()
}

// A job that a paired worker puts into the queue of its site, and that names what is of another site, is not done by whoever has more
// rights.
func TestAForgedJobIsNotDone(t *testing.T) {
	t.Parallel()
	b := set(t, storetest.URL(t), "127.42.97", 0)
	other, err := b.s.Sites.Create(ctx, "Elsewhere", address.MustParse("127.42.98.0/24"))
	require.NoError(t, err)
	device := uuid.New()
	_, err = b.s.Pool.Exec(ctx, "INSERT INTO devices (id, site_id, addr) VALUES ($1, $2, '127.42.98.9')", device, other.ID)
	require.NoError(t, err)
	i := storetest.Pair(t, b.s, false, b.site.ID)
	far := storetest.OpenFar(t, b.s, i)
	forge := func(s *store.Store, queue, args string) (id int64, err error) {
		return id, s.Pool.QueryRow(ctx, "INSERT INTO river_job (args, kind, max_attempts, queue) VALUES ($1::text::jsonb, 'device', "+
			"3, $2) RETURNING id",
			args, queue).Scan(&id)
	}
	args := fmt.Sprintf(`{"run": %q, "device": %q, "do": {"open": {}}}`, uuid.Nil, device)
	_, err = forge(far, "site-"+other.ID.String(), args)
	assert.ErrorContains(t, err, "row-level security", "it puts nothing into the queue of another site")
	_, err = forge(far, "default", args)
	assert.ErrorContains(t, err, "row-level security")
	job, err := forge(far, "site-"+b.site.ID.String(), args)
	require.NoError(t, err)
	// The server's own worker is told to work this site as well.
	w, err := jobs.StartHooked(b.s, slog.New(slog.NewTextHandler(b.log, nil)), b.hooks, b.site.Name)
	require.NoError(t, err)
	t.Cleanup(w.Stop)
	require.Eventually(t, func() bool {
		var state string
		require.NoError(t, b.s.Pool.QueryRow(ctx, "SELECT state FROM river_job WHERE id = $1", job).Scan(&state))
		return state == "cancelled"
	}, time.Minute, 20*time.Millisecond)
	assert.Contains(t, b.log.String(), "it names what is of another site")
	var kept int
	require.NoError(t, b.s.Pool.QueryRow(ctx, "SELECT count(*) FROM evidence WHERE device_id = $1", device).Scan(&kept))
	assert.Zero(t, kept)
}
