package server

import (
	"context"
	"log/slog"
	"net/netip"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.opentelemetry.io/otel"
	sdktrace "go.opentelemetry.io/otel/sdk/trace"
	"go.opentelemetry.io/otel/sdk/trace/tracetest"
	"go.opentelemetry.io/otel/trace"

	"unlatch/core/stream/sighting"
	"unlatch/jobs"
	"unlatch/sim/simtest"
	"unlatch/store"
	"unlatch/store/storetest"
)

// One click is one trace, through server, database, queue and worker to the device, and the log of the worker names the request.
func TestOneClickIsOneTrace(t *testing.T) {
	t.Parallel()
	kept := tracetest.NewInMemoryExporter()
	otel.SetTracerProvider(sdktrace.NewTracerProvider(sdktrace.WithSyncer(kept)))
	o := store.Options{URL: storetest.URL(t), KeyFile: filepath.Join(t.TempDir(), "key"), Spans: true}
	p, s, log := serveOn(t, o, Config{Traced: true})
	l := slog.New(slog.NewTextHandler(log, &slog.HandlerOptions{Level: slog.LevelDebug}))
	workers, err := jobs.StartWorkers(s, l, jobs.Options{Traced: true})
	require.NoError(t, err)
	t.Cleanup(workers.Stop)
	p.setUp()
	world := simtest.Start(t, `
name: traced
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: Clock, maker: corvane, model: V4, address: 127.44.88.11, scene: platform-clock, streams: [{width: 320, height: 180,
       fps: 10, kbps: 200, gop: 10}]}
`)
	site := get[siteView](p, "POST", "/api/sites", fields{"name": "Shed", "ranges": []string{"127.44.88.0/24"}}).ID
	device, err := s.Devices.Sight(context.Background(), site, nil, sighting.Sighting{Method: sighting.WSDiscovery, At: time.Now(),
		Addr: netip.MustParseAddr("127.44.88.11"), Endpoint: world.Device("Clock").Endpoint(), Kind: sighting.Camera,
		XAddr: world.Device("Clock").Service()})
	require.NoError(t, err)
	status, text, header := p.do("POST", "/api/sites/"+site.String()+"/open", fields{"devices": []uuid.UUID{device}})
	require.Equal(t, 202, status, text)
	request := header.Get("X-Request-Id")
	require.NotEmpty(t, request)

	var click trace.TraceID
	var names map[string]int
	require.Eventually(t, func() bool {
		names = map[string]int{}
		for _, span := range kept.GetSpans() {
			if strings.HasPrefix(span.Name, "POST /api/sites/{site}/open") {
				click = span.SpanContext.TraceID()
			}
		}
		for _, span := range kept.GetSpans() {
			if span.SpanContext.TraceID() == click {
				names[span.Name]++
			}
		}
		return names["device/open"] > 0 && names["connection"] > 0
	}, 60*time.Second, 50*time.Millisecond)
	statements := 0
	for name, n := range names {
		if name == "SELECT" || name == "INSERT" {
			statements += n
		}
	}
	assert.Positive(t, statements, "%v", names)
	for _, span := range kept.GetSpans() {
		for _, a := range span.Attributes {
			for _, secret := range []string{"grease", "keeper", setupCode} {
				assert.NotContains(t, a.Value.String(), secret, "%s of %s", a.Key, span.Name)
			}
		}
	}
	assert.Eventually(t, func() bool {
		for line := range strings.Lines(log.String()) {
			if strings.Contains(line, "a job has ended") && strings.Contains(line, "request="+request) && strings.Contains(line, "run=") {
				return true
			}
		}
		return false
	}, 60*time.Second, 50*time.Millisecond)
}
