package main

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/jobs"
)

// How a paired worker stands is said in words and by the exit code, also where it does not run or has told nothing for long.
func TestWorkerStatus(t *testing.T) {
	t.Parallel()
	data := t.TempDir()
	status := func(args ...string) (string, error) {
		var out strings.Builder
		c := workerStatusCommand()
		c.SetOut(&out)
		c.SetErr(&out)
		c.SetArgs(append(args, "--data", data))
		c.SilenceUsage, c.SilenceErrors = true, true
		err := c.ExecuteContext(t.Context())
		return out.String(), err
	}
	write := func(s workerStatus) {
		raw, err := json.Marshal(s)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(data, statusFile), raw, 0o600))
	}
	said, err := status()
	assert.ErrorIs(t, err, errNo)
	assert.Contains(t, said, "No paired worker runs")
	now := time.Now()
	up := jobs.UplinkState{Server: "bench.example", Connected: true, Since: now.Add(-time.Minute), DelayMS: 81}
	write(workerStatus{At: now, Link: up, Sites: []string{"Viaduct"}, Jobs: 3, MemoryMB: 90, BoundMB: 750, Version: "0.1.0"})
	said, err = status()
	require.NoError(t, err)
	assert.Contains(t, said, "Connected to bench.example for 1m0s, 81 ms away")
	assert.Contains(t, said, "Site       Viaduct\nJobs       3 under way\nMemory     90 MB of at most 750 MB")
	said, err = status("--json")
	require.NoError(t, err)
	assert.True(t, json.Valid([]byte(said)))
	write(workerStatus{At: now, Link: jobs.UplinkState{Server: "bench.example", Since: now, Problem: "refused"}})
	said, err = status()
	assert.ErrorIs(t, err, errNo)
	assert.Contains(t, said, "Not connected to bench.example for 0s: refused")
	write(workerStatus{At: now.Add(-time.Hour), Link: up})
	said, err = status()
	assert.ErrorIs(t, err, errNo)
	assert.Contains(t, said, "told nothing for 1h0m0s")
	require.NoError(t, os.WriteFile(filepath.Join(data, statusFile), []byte("{"), 0o600))
	_, err = status()
	assert.ErrorContains(t, err, "cannot be read")
}
