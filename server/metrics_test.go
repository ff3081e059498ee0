package server

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/json"
	"log/slog"
	"os"
	"path/filepath"
	"regexp"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"

	"unlatch/core/decide/doctor"
	"unlatch/core/decide/drift"
	"unlatch/jobs"
	"unlatch/store"
	"unlatch/store/storetest"
)

// Metrics are there for who has the token, and name nothing of the customer's.
func TestMetricsWantTheirToken(t *testing.T) {
	t.Parallel()
	p, s, _ := serveWith(t, storetest.URL(t), Config{MetricsToken: "watchman-5512"})
	p.setUp()
	newShed(t, p, s, 3)
	p.problem("no_token", "GET", "/metrics", nil)
	p.problem("no_token", "GET", "/metrics", nil, "Authorization", "Bearer watchman-551")
	status, text, _ := p.do("GET", "/metrics", nil, "Authorization", "Bearer watchman-5512")
	require.Equal(t, 200, status, text)
	assert.Contains(t, text, `unlatch_devices{at="reachable",kind="camera"} 3`)
	assert.Contains(t, text, `unlatch_build_info{go="`+runtime.Version()+`",revision="`)
	assert.Contains(t, text, `unlatch_sites{reached="false"} 1`)
	assert.Contains(t, text, `unlatch_http_request_seconds_count{method="POST",route="/api/sites",status="201"} 1`)
	assert.Contains(t, text, "go_goroutines")
	for _, name := range []string{"Shed", "192.0.2", "keeper", "urn:", "watchman"} {
		assert.NotContains(t, text, name)
	}
	without, _, _ := serve(t, storetest.URL(t))
	status, _, _ = without.do("GET", "/metrics", nil, "Authorization", "Bearer ")
	assert.Equal(t, 404, status)
}

// named are the metrics, and the labels, that an expression of a dashboard or an alert rule names.
var (
	namedMetric = regexp.MustCompile(`\b((?:unlatch|go|process)_[a-z0-9_]+)(?:\{([^}]*)\})?`)
	namedLabel  = regexp.MustCompile(`([a-z_]+)\s*(?:=~|!~|!=|=)`)
	groupedBy   = regexp.MustCompile(`by \(([a-z, ]+)\)`)
)

// Whatever the dashboard and the alert rules ask for is told at /metrics, with the labels that they ask by.
func TestTheDashboardAsksForWhatIsThere(t *testing.T) {
	t.Parallel()
	ctx, o := context.Background(), store.Options{URL: storetest.URL(t), KeyFile: filepath.Join(t.TempDir(), "key")}
	own, err := store.OpenWith(ctx, o)
	require.NoError(t, err)
	t.Cleanup(own.Close)
	workers, err := jobs.StartWorkers(own, slog.New(slog.DiscardHandler), jobs.Options{})
	require.NoError(t, err)
	t.Cleanup(workers.Stop)
	p, s, _ := serveOn(t, o, Config{MetricsToken: "watchman-5512", Meters: []prometheus.Collector{workers.Metrics()}})
	p.setUp()
	shed := newShed(t, p, s, 3)
	// One of each that is only told of where there is one.
	require.NoError(t, s.Upkeep.KeepBackup(ctx, doctor.Backup{At: time.Now()}))
	require.NoError(t, s.Drifts.Settle(ctx, store.FoundDrifts{Site: shed.site.ID, Of: shed.ids[0], At: time.Now(),
		Drifts: []drift.Drift{{Device: shed.ids[0], Title: "Clock", Cause: drift.Silent}}}))
	_, err = s.Runs.Start(ctx, store.Run{Site: shed.site.ID, Kind: "sweep"}, func(*sql.Tx, uuid.UUID) error { return nil })
	require.NoError(t, err)
	queue, err := jobs.NewQueue(own, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	_, err = queue.Machine(ctx, uuid.Nil)
	require.NoError(t, err)
	var text string
	require.Eventually(t, func() bool {
		_, text, _ = p.do("GET", "/metrics", nil, "Authorization", "Bearer watchman-5512")
		return strings.Contains(text, "unlatch_job_seconds_count")
	}, 60*time.Second, 50*time.Millisecond)
	families := map[string]map[string]bool{}
	for line := range strings.Lines(text) {
		name, rest, _ := strings.Cut(strings.TrimSpace(line), "{")
		name, _, _ = strings.Cut(name, " ")
		labels := map[string]bool{}
		for _, l := range namedLabel.FindAllStringSubmatch(strings.SplitN(rest, "}", 2)[0], -1) {
			labels[l[1]] = true
		}
		families[name] = labels
	}
	asked := 0
	for _, path := range []string{"dashboard.json", "alerts.yaml"} {
		raw, err := os.ReadFile("../docs/monitoring/" + path)
		require.NoError(t, err)
		for _, expr := range expressions(t, path, raw) {
			for _, m := range namedMetric.FindAllStringSubmatch(expr, -1) {
				asked++
				labels, there := families[m[1]]
				assert.True(t, there, "%s asks for %s", path, m[1])
				for _, l := range namedLabel.FindAllStringSubmatch(m[2], -1) {
					assert.True(t, labels[l[1]], "%s asks for %s by %s", path, m[1], l[1])
				}
				for _, by := range groupedBy.FindAllStringSubmatch(expr, -1) {
					for l := range strings.SplitSeq(by[1], ",") {
						assert.True(t, labels[strings.TrimSpace(l)], "%s groups %s by %s", path, m[1], l)
					}
				}
			}
		}
	}
	assert.Greater(t, asked, 25)
	for _, must := range []string{"unlatch_http_request_seconds_bucket", "unlatch_runs_total", "unlatch_job_seconds_bucket",
		"unlatch_live_viewers", "unlatch_link_kbps", "unlatch_devices", "unlatch_drifts", "unlatch_watch_lag_seconds",
		"unlatch_database_connections"} {
		assert.Contains(t, families, must)
	}
}

// expressions returns what a dashboard or a file of alert rules asks for. The file is as strict as whoever reads it.
func expressions(t *testing.T, path string, raw []byte) (out []string) {
	t.Helper()
	if strings.HasSuffix(path, ".json") {
		var d struct {
			Panels []struct{ Targets []struct{ Expr string } }
		}
		require.NoError(t, json.Unmarshal(raw, &d))
		for _, p := range d.Panels {
			for _, target := range p.Targets {
				out = append(out, target.Expr)
			}
		}
		return out
	}
	var rules struct {
		Groups []struct {
			Name  string
			Rules []struct {
				Alert, Expr, For    string
				Labels, Annotations map[string]string
			}
		}
	}
	d := yaml.NewDecoder(bytes.NewReader(raw))
	d.KnownFields(true)
	require.NoError(t, d.Decode(&rules))
	for _, g := range rules.Groups {
		for _, r := range g.Rules {
			assert.NotEmpty(t, r.Annotations["summary"], r.Alert)
			assert.NotEmpty(t, r.Annotations["do"], r.Alert)
			if r.For != "" {
				_, err := time.ParseDuration(r.For)
				assert.NoError(t, err)
			}
			out = append(out, r.Expr)
		}
	}
	return out
}
