package jobs_test

import (
	"log/slog"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/command"
	"unlatch/core/ground/address"
	"unlatch/jobs"
	"unlatch/store/storetest"
)

// A run of very many commands is queued as one job, whose worker adds a job for each of them once. Where the run was stopped before, it
// adds none; commands that others ask about are queued by themselves at once.
func TestManyCommandsAreSpread(t *testing.T) {
	t.Parallel()
	s := storetest.Open(t)
	site, err := s.Sites.Create(ctx, "Long line", address.MustParse("127.42.231.0/30"))
	require.NoError(t, err)
	q, err := jobs.NewQueue(s, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	many := make([]uuid.UUID, 150)
	for i := range many {
		many[i] = uuid.New() // the command finds no such device, and is done
	}
	queued := func(run uuid.UUID) (jobs, devices int) {
		require.NoError(t, s.Pool.QueryRow(ctx, `SELECT count(*), count(DISTINCT args->>'device') FROM river_job
			WHERE kind = 'device' AND args->>'run' = $1`, run.String()).Scan(&jobs, &devices))
		return jobs, devices
	}
	wake := command.Work{Kind: "open", Devices: command.Each(many, command.Device{Wake: &command.Wake{}})}
	spread, err := q.Begin(ctx, site.ID, wake)
	require.NoError(t, err)
	stopped, err := q.Begin(ctx, site.ID, wake)
	require.NoError(t, err)
	asked, err := q.Begin(ctx, site.ID, command.Work{Kind: "tune", Devices: command.Each(many, command.Device{Tune: &command.Tune{}})})
	require.NoError(t, err)
	n, _ := queued(spread.ID)
	assert.Zero(t, n, "before a worker has it")
	n, _ = queued(asked.ID)
	assert.Equal(t, len(many), n, "who is setting a camera is known from the beginning")
	require.NoError(t, q.Stop(ctx, stopped.ID))
	require.NoError(t, q.Stop(ctx, asked.ID))

	w, err := jobs.StartWorkers(s, slog.New(slog.DiscardHandler), jobs.Options{})
	require.NoError(t, err)
	t.Cleanup(w.Stop)
	require.Eventually(t, func() bool {
		run, err := s.Runs.Get(ctx, spread.ID)
		return err == nil && !run.Running()
	}, time.Minute, 50*time.Millisecond)
	n, devices := queued(spread.ID)
	assert.Equal(t, len(many), n)
	assert.Equal(t, len(many), devices, "each once")
	n, _ = queued(stopped.ID)
	assert.Zero(t, n)
}
