package daemon

import (
	"context"
	"time"

	"github.com/prometheus/client_golang/prometheus"

	"inkpost.example/inkpost/internal/engine"
)

// standingMetrics collects how everything stands at the moment.
type standingMetrics struct{ serving func() *engine.Engine }

// standingWait is how long the database may take to say its part; the rest is in memory.
const standingWait = 2 * time.Second

var (
	sitesDesc     = prometheus.NewDesc("inkpost_sites", "Sites by what they need", []string{"need"}, nil)
	agentsDesc    = prometheus.NewDesc("inkpost_agents", "Agents that were ever heard, by state: heard or overdue", []string{"state"}, nil)
	hostnamesDesc = prometheus.NewDesc("inkpost_hostnames", "Hostnames by state", []string{"state"}, nil)
	faultsDesc    = prometheus.NewDesc("inkpost_faults_open", "Open faults by cause, and whether customers are cut off or a port is open "+
		"that must not be", []string{"cause", "serious"}, nil)
	jobsDesc     = prometheus.NewDesc("inkpost_queue_jobs", "Jobs that are not done, by queue and state", []string{"queue", "state"}, nil)
	databaseDesc = prometheus.NewDesc("inkpost_database_connections", "Connections to the database, by pool and state: in use, idle, or "+
		"unused of those that there may be", []string{"pool", "state"}, nil)
	waitsDesc   = prometheus.NewDesc("inkpost_database_waits_total", "How often a connection had to be waited for", []string{"pool"}, nil)
	waitingDesc = prometheus.NewDesc("inkpost_database_waited_seconds_total", "How long connections were waited for, in seconds",
		[]string{"pool"}, nil)
	writerDesc = prometheus.NewDesc("inkpost_writer", "1 if this server writes to the database, 0 if it stands by", nil, nil)
)

// Describe implements prometheus.Collector.
func (standingMetrics) Describe(out chan<- *prometheus.Desc) {
	for _, d := range []*prometheus.Desc{sitesDesc, agentsDesc, hostnamesDesc, faultsDesc, jobsDesc, databaseDesc, waitsDesc, waitingDesc,
		writerDesc} {
		out <- d
	}
}

// Collect implements prometheus.Collector.
func (m standingMetrics) Collect(out chan<- prometheus.Metric) {
	e := m.serving()
	if e == nil {
		return
	}
	ctx, cancel := context.WithTimeout(context.Background(), standingWait)
	defer cancel()
	gauge := func(d *prometheus.Desc, n int, labels ...string) {
		out <- prometheus.MustNewConstMetric(d, prometheus.GaugeValue, float64(n), labels...)
	}
	n := e.Standing.Numbers(ctx)
	for _, of := range []struct {
		desc *prometheus.Desc
		by   map[string]int
	}{{sitesDesc, n.Sites}, {agentsDesc, n.Agents}, {hostnamesDesc, n.Hostnames}} {
		for label, count := range of.by {
			gauge(of.desc, count, label)
		}
	}
	for kind, count := range n.Faults {
		serious := "no"
		if kind.Serious {
			serious = "yes"
		}
		gauge(faultsDesc, count, kind.Cause, serious)
	}
	for _, j := range n.Jobs {
		gauge(jobsDesc, j.Count, j.Queue, j.State)
	}
	for name, pool := range n.Pools {
		gauge(databaseDesc, pool.InUse, name, "in use")
		gauge(databaseDesc, pool.Open-pool.InUse, name, "idle")
		gauge(databaseDesc, pool.Most-pool.Open, name, "unused")
		out <- prometheus.MustNewConstMetric(waitsDesc, prometheus.CounterValue, float64(pool.Waits), name)
		out <- prometheus.MustNewConstMetric(waitingDesc, prometheus.CounterValue, pool.Waited.Seconds(), name)
	}
	writer := 1
	if e.Standby() {
		writer = 0
	}
	gauge(writerDesc, writer)
}
