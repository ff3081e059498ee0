package server

import (
	"crypto/subtle"
	"net/http"
	"strconv"
	"strings"
	"time"

	"unlatch/core/ground/release"

	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"
	"go.opentelemetry.io/otel/trace"
)

// metrics are what whoever runs the server watches. They name routes and states, and never a device, a person or an address.
type metrics struct {
	token    string // without one there is no such page
	registry *prometheus.Registry
	requests *prometheus.HistogramVec
}

func newMetrics(token string, more ...prometheus.Collector) *metrics {
	m := &metrics{token: token, registry: prometheus.NewRegistry(), requests: prometheus.NewHistogramVec(prometheus.HistogramOpts{
		Name: "unlatch_http_request_seconds", Help: "Time to answer, by route and status.",
		Buckets: []float64{.005, .02, .1, .5, 2, 10},
	}, []string{"method", "route", "status"})}
	of := release.Running()
	build := prometheus.NewGauge(prometheus.GaugeOpts{Name: "unlatch_build_info",
		Help:        "Always 1; its labels say what the server was built from.",
		ConstLabels: prometheus.Labels{"version": of.Version, "revision": of.Revision, "go": of.Go}})
	build.Set(1)
	m.registry.MustRegister(build, m.requests, collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	m.registry.MustRegister(more...)
	return m
}

// Metrics serves what collectors know, to whoever brings the token; for processes that serve nothing else.
func Metrics(token string, more ...prometheus.Collector) http.Handler {
	return newMetrics(token, more...)
}

// timed measures requests by the route that took them. Streams of events, which last as long as a page is open, are left out.
func (m *metrics) timed(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		seen := middleware.NewWrapResponseWriter(w, r.ProtoMajor)
		began := time.Now()
		next.ServeHTTP(seen, r)
		route := chi.RouteContext(r.Context()).RoutePattern()
		if route == "" || strings.HasSuffix(route, "/events") {
			return
		}
		trace.SpanFromContext(r.Context()).SetName(r.Method + " " + route)
		m.requests.WithLabelValues(r.Method, route, strconv.Itoa(max(seen.Status(), 200))).Observe(time.Since(began).Seconds())
	})
}

// ServeHTTP answers a scrape that brings the token. Without a token there is no such page.
func (m *metrics) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	given, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
	if m.token == "" {
		http.NotFound(w, r)
		return
	}
	if !ok || subtle.ConstantTimeCompare([]byte(given), []byte(m.token)) != 1 {
		w.Header().Set("WWW-Authenticate", `Bearer realm="metrics"`)
		writeProblem(w, problem(401, "no_token", "The metrics want their token.", "Send it as Authorization: Bearer."))
		return
	}
	promhttp.HandlerFor(m.registry, promhttp.HandlerOpts{}).ServeHTTP(w, r)
}
