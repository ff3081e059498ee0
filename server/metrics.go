package server

import (
	"context"
	"crypto/subtle"
	"net/http"
	"strconv"
	"strings"
	"time"

	"unlatch/core/ground/release"
	"unlatch/jobs"
	"unlatch/store"

	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"
)

// metrics are what whoever runs the server watches. They name routes and states, and never a device, a person or an address.
type metrics struct {
	token    string // without one there is no such page
	registry *prometheus.Registry
	requests *prometheus.HistogramVec
}

func newMetrics(token string, sites *siteCollector) *metrics {
	m := &metrics{token: token, registry: prometheus.NewRegistry(), requests: prometheus.NewHistogramVec(prometheus.HistogramOpts{
		Name: "unlatch_http_request_seconds", Help: "Time to answer, by route and status.",
		Buckets: []float64{.005, .02, .1, .5, 2, 10},
	}, []string{"method", "route", "status"})}
	of := release.Running()
	build := prometheus.NewGauge(prometheus.GaugeOpts{Name: "unlatch_build_info",
		Help:        "Always 1; its labels say what the server was built from.",
		ConstLabels: prometheus.Labels{"version": of.Version, "revision": of.Revision, "go": of.Go}})
	build.Set(1)
	m.registry.MustRegister(build, m.requests, collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}),
		sites)
	return m
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

// siteCollector counts devices by how far they are, and work by what is left of it, when it is asked.
type siteCollector struct {
	store  *store.Store
	queue  *jobs.Queue
	lineUp *lineUp
}

var (
	devicesDesc = prometheus.NewDesc("unlatch_devices", "Devices by kind and by the latch that they wait at.", []string{"kind", "at"}, nil)
	workDesc    = prometheus.NewDesc("unlatch_jobs", "Jobs that are still to be done, by state.", []string{"state"}, nil)
	sitesDesc   = prometheus.NewDesc("unlatch_sites", "Sites by whether a worker reaches them.", []string{"reached"}, nil)
)

// Describe implements prometheus.Collector.
func (c *siteCollector) Describe(to chan<- *prometheus.Desc) {
	to <- devicesDesc
	to <- workDesc
	to <- sitesDesc
}

// Collect implements prometheus.Collector. What cannot be read is left out.
func (c *siteCollector) Collect(to chan<- prometheus.Metric) {
	ctx, done := context.WithTimeout(context.Background(), 10*time.Second)
	defer done()
	sites, err := c.store.Sites.List(ctx)
	if err != nil {
		return
	}
	reached := map[bool]int{}
	devices := map[[2]string]int{}
	for _, site := range sites {
		reached[site.Reached]++
		list, err := c.lineUp.site(ctx, site.ID)
		if err != nil {
			continue
		}
		for _, x := range list.order {
			devices[[2]string{x.view.Kind, x.view.At}]++
		}
		list.mu.Unlock()
	}
	for yes, n := range reached {
		to <- prometheus.MustNewConstMetric(sitesDesc, prometheus.GaugeValue, float64(n), strconv.FormatBool(yes))
	}
	for at, n := range devices {
		to <- prometheus.MustNewConstMetric(devicesDesc, prometheus.GaugeValue, float64(n), at[0], at[1])
	}
	left, err := c.queue.Left(ctx)
	if err != nil {
		return
	}
	for state, n := range left {
		to <- prometheus.MustNewConstMetric(workDesc, prometheus.GaugeValue, float64(n), state)
	}
}
