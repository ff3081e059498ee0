package main

import (
	"context"
	"io"
	"net/http"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.opentelemetry.io/otel"
	"go.opentelemetry.io/otel/trace/noop"

	"unlatch/sim/simtest"
)

// Spans arrive at the endpoint by OTLP over HTTP, at the path that OTLP gives them, with who sent them.
func TestSpansArrive(t *testing.T) {
	var mu sync.Mutex
	got := map[string]string{}
	url := simtest.Serve(t, "127.0.0.1", func(_ http.ResponseWriter, r *http.Request) {
		raw, _ := io.ReadAll(r.Body)
		mu.Lock()
		defer mu.Unlock()
		got[r.URL.Path] += string(raw)
	})
	t.Cleanup(func() { otel.SetTracerProvider(noop.NewTracerProvider()) })
	end, err := startTracing(context.Background(), url, "server")
	require.NoError(t, err)
	_, span := otel.Tracer("test").Start(context.Background(), "a click on the brass button")
	span.End()
	end()
	mu.Lock()
	defer mu.Unlock()
	raw := got["/v1/traces"]
	assert.True(t, strings.Contains(raw, "a click on the brass button"), "%q", got)
	assert.True(t, strings.Contains(raw, "unlatch-server"))
}
