package server

import (
	"context"
	"strconv"
	"sync/atomic"
	"time"

	"github.com/prometheus/client_golang/prometheus"

	"unlatch/core/decide/doctor"
	"unlatch/jobs"
	"unlatch/store"
)

// siteCollector counts, when it is asked, devices by how far they are, work by what is left of it, and what else the database knows.
type siteCollector struct {
	store   *store.Store
	queue   *jobs.Queue
	lineUp  *lineUp
	viewers *atomic.Int64 // live pictures that are looked at
}

// gauge describes a metric that is read when it is asked for.
func gauge(name, help string, labels ...string) *prometheus.Desc {
	return prometheus.NewDesc(name, help, labels, nil)
}

var (
	runsDesc     = gauge("unlatch_runs_total", "Runs that were ever begun, by kind.", "kind")
	driftsDesc   = gauge("unlatch_drifts", "What differs from the agreed state now, by cause.", "cause")
	lagDesc      = gauge("unlatch_watch_lag_seconds", "By how much the most overdue look of the watch is overdue.")
	oldestDesc   = gauge("unlatch_queue_oldest_seconds", "For how long the oldest job that waits could have begun.")
	viewersDesc  = gauge("unlatch_live_viewers", "Live pictures that are looked at.")
	takersDesc   = gauge("unlatch_relay_takers", "Who take streams that workers serve on.")
	findingsDesc = gauge("unlatch_findings", "What was judged of the installation, by how it stands.", "state")
	backupDesc   = gauge("unlatch_backup_age_seconds", "Age of the newest backup that was made by schedule; none where there is none.")
	sizeDesc     = gauge("unlatch_database_bytes", "Size of the database.")
	poolDesc     = gauge("unlatch_database_connections", "Connections of this process to the database, by use.", "use")
	waitsDesc    = gauge("unlatch_database_waits_total", "How often a connection to the database had to be waited for.")
	devicesDesc  = prometheus.NewDesc("unlatch_devices", "Devices by kind and by the latch that they wait at.", []string{"kind", "at"}, nil)
	workDesc     = prometheus.NewDesc("unlatch_jobs", "Jobs that are still to be done, by state.", []string{"state"}, nil)
	sitesDesc    = prometheus.NewDesc("unlatch_sites", "Sites by whether a worker reaches them.", []string{"reached"}, nil)
)

// Describe implements prometheus.Collector.
func (c *siteCollector) Describe(to chan<- *prometheus.Desc) {
	for _, d := range []*prometheus.Desc{devicesDesc, workDesc, sitesDesc, runsDesc, driftsDesc, lagDesc, oldestDesc, viewersDesc, takersDesc,
		findingsDesc, backupDesc, sizeDesc, poolDesc, waitsDesc} {
		to <- d
	}
}

// Collect implements prometheus.Collector. What cannot be read is left out.
func (c *siteCollector) Collect(to chan<- prometheus.Metric) {
	ctx, done := context.WithTimeout(context.Background(), 10*time.Second)
	defer done()
	set := func(d *prometheus.Desc, value float64, labels ...string) {
		to <- prometheus.MustNewConstMetric(d, prometheus.GaugeValue, value, labels...)
	}
	set(viewersDesc, float64(c.viewers.Load()))
	pool := c.store.PoolLoad()
	set(poolDesc, float64(pool.Used), "used")
	set(poolDesc, float64(pool.Idle), "idle")
	set(poolDesc, float64(pool.Most), "most")
	to <- prometheus.MustNewConstMetric(waitsDesc, prometheus.CounterValue, float64(pool.Waits))
	c.sites(ctx, set)
	c.condition(ctx, set)
	if counts, err := c.store.Upkeep.Counts(ctx); err == nil {
		for kind, n := range counts.Runs {
			to <- prometheus.MustNewConstMetric(runsDesc, prometheus.CounterValue, float64(n), kind)
		}
		for cause, n := range counts.Drifts {
			set(driftsDesc, float64(n), cause)
		}
		set(lagDesc, counts.WatchLagSeconds)
		set(takersDesc, float64(counts.Takers))
	}
	left, err := c.queue.Left(ctx)
	if err != nil {
		return
	}
	for state, n := range left {
		set(workDesc, float64(n), state)
	}
}

// condition counts the findings of the installation.
func (c *siteCollector) condition(ctx context.Context, set func(*prometheus.Desc, float64, ...string)) {
	f, err := c.store.Upkeep.Condition(ctx)
	if err != nil {
		return
	}
	states := map[doctor.State]int{doctor.Ill: 0, doctor.Soon: 0, doctor.Well: 0}
	for _, x := range doctor.Judge(f) {
		states[x.State]++
	}
	for state, n := range states {
		set(findingsDesc, float64(n), string(state))
	}
	if good := f.Backups.LastGood; good != nil {
		set(backupDesc, f.At.Sub(good.At).Seconds())
	}
	set(oldestDesc, f.Queue.OldestSeconds)
	set(sizeDesc, float64(f.Database.Bytes))
}

// sites counts sites and devices.
func (c *siteCollector) sites(ctx context.Context, set func(*prometheus.Desc, float64, ...string)) {
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
		set(sitesDesc, float64(n), strconv.FormatBool(yes))
	}
	for at, n := range devices {
		set(devicesDesc, float64(n), at[0], at[1])
	}
}
