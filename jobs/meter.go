package jobs

import (
	"context"
	"encoding/json"
	"maps"
	"slices"
	"sync/atomic"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/riverqueue/river/rivertype"
)

// A meter measures what the workers of this process do. It names kinds of work, and never a device, a site or a person.
type meter struct {
	seconds *prometheus.HistogramVec
	links   *links
	going   atomic.Int64 // jobs under way
}

func newMeter(l *links) *meter {
	return &meter{links: l, seconds: prometheus.NewHistogramVec(prometheus.HistogramOpts{
		Name: "unlatch_job_seconds", Help: "Time that a job took, by what was to be done and how it ended.",
		Buckets: []float64{.05, .2, 1, 5, 20, 60, 300, 1800},
	}, []string{"kind", "result"})}
}

var linkDesc = prometheus.NewDesc("unlatch_link_kbps",
	"Bitrate that streams take on the links of the sites, and what they may take together, in kbit/s.", []string{"what"}, nil)

// Describe implements prometheus.Collector.
func (m *meter) Describe(to chan<- *prometheus.Desc) {
	m.seconds.Describe(to)
	to <- linkDesc
}

// Collect implements prometheus.Collector.
func (m *meter) Collect(to chan<- prometheus.Metric) {
	m.seconds.Collect(to)
	measured, looked, most := m.links.load()
	for what, kbps := range map[string]int{"measured": measured, "looked at": looked, "budget": most} {
		to <- prometheus.MustNewConstMetric(linkDesc, prometheus.GaugeValue, float64(kbps), what)
	}
}

// Metrics returns what the workers measure of themselves.
func (w *Workers) Metrics() prometheus.Collector { return w.env.meter }

// UnderWay returns how many jobs the workers do at this moment.
func (w *Workers) UnderWay() int { return int(w.env.meter.going.Load()) }

// timed measures a job.
func (m *meter) timed(ctx context.Context, job *rivertype.JobRow, work func(context.Context) error) error {
	m.going.Add(1)
	defer m.going.Add(-1)
	began := time.Now()
	err := work(ctx)
	result := "done"
	switch {
	case ctx.Err() != nil:
		result = "stopped"
	case err != nil:
		result = "again" // put off, or given up
	}
	m.seconds.WithLabelValues(workOf(job), result).Observe(time.Since(began).Seconds())
	return err
}

// workOf names what a job does, such as "device/open": its kind, and the one thing that its arguments hold for it to do.
func workOf(job *rivertype.JobRow) string {
	var args struct {
		Do map[string]json.RawMessage `json:"do"`
	}
	if json.Unmarshal(job.EncodedArgs, &args) != nil || len(args.Do) == 0 {
		return job.Kind
	}
	return job.Kind + "/" + slices.Sorted(maps.Keys(args.Do))[0]
}
