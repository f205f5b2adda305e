// Package counters counts what the service does, for OpenMetrics. It owns the counts since the program started, which outlive an engine:
// one that takes over goes on with them.
//
// Any lock may be held when it is called.
package counters

import (
	"fmt"
	"time"

	"github.com/prometheus/client_golang/prometheus"
)

// Stages of a move. Their times count from the moment at which the change was noticed.
const (
	Recorded  = "recorded"  // it is durable
	Published = "published" // the zones have it
	Answered  = "answered"  // the zones' servers give it
	Seen      = "seen"      // resolvers elsewhere give it
	Confirmed = "confirmed" // the services answered at it
)

// Ways by which an announcement comes.
const (
	ByAgent  = "agent"
	ByRouter = "router" // a URL that it fetches
	ByUpdate = "update" // DNS UPDATE
)

// Counters are safe for concurrent use. Nil counts nothing.
type Counters struct {
	requests      *prometheus.HistogramVec
	announcements *prometheus.CounterVec
	moves         prometheus.Counter
	stages        *prometheus.HistogramVec
	deliveries    *prometheus.CounterVec
	pushes        *prometheus.CounterVec
}

// New returns counters at zero.
func New() *Counters {
	counter := func(name, help string, labels ...string) *prometheus.CounterVec {
		return prometheus.NewCounterVec(prometheus.CounterOpts{Namespace: "inkpost", Name: name, Help: help}, labels)
	}
	return &Counters{
		requests: prometheus.NewHistogramVec(prometheus.HistogramOpts{Namespace: "inkpost", Name: "request_seconds",
			Help:    "How long requests to the API took, in seconds, by route and class of status; streams are left out",
			Buckets: []float64{0.005, 0.02, 0.05, 0.2, 1, 5}}, []string{"method", "route", "status"}),
		announcements: counter("announcements_total", "Addresses that were announced, by way (agent, router, update) and what came of it "+
			"(changed, unchanged, held, refused, failed; an update is taken)", "way", "outcome"),
		moves: prometheus.NewCounter(prometheus.CounterOpts{Namespace: "inkpost", Name: "moves_total",
			Help: "Changes of a link's address"}),
		stages: prometheus.NewHistogramVec(prometheus.HistogramOpts{Namespace: "inkpost", Name: "move_stage_seconds",
			Help:    "How long after a change was noticed a move reached a stage, in seconds",
			Buckets: []float64{0.005, 0.02, 0.1, 0.5, 2, 5, 20, 60, 300}}, []string{"stage"}),
		deliveries: counter("deliveries_total",
			"Tries to deliver a notice, by way and what came of it (sent, waiting for another try, failed for good)", "way",
			"outcome"),
		pushes: counter("pushes_total", "Tries to push a name to a remote primary, by what came of it (taken, failed)", "outcome"),
	}
}

// Register has them collected. Error: their names are taken.
func (c *Counters) Register(to prometheus.Registerer) error {
	for _, one := range []prometheus.Collector{c.requests, c.announcements, c.moves, c.stages, c.deliveries, c.pushes} {
		if err := to.Register(one); err != nil {
			return err
		}
	}
	return nil
}

// Asked counts a request that was answered.
func (c *Counters) Asked(method, route string, status int, took time.Duration) {
	if c != nil {
		c.requests.WithLabelValues(method, route, fmt.Sprintf("%dxx", status/100)).Observe(took.Seconds())
	}
}

// Announced counts an announcement.
func (c *Counters) Announced(way, outcome string) {
	if c != nil {
		c.announcements.WithLabelValues(way, outcome).Inc()
	}
}

// Moved counts a move.
func (c *Counters) Moved() {
	if c != nil {
		c.moves.Inc()
	}
}

// Reached counts that a move has reached a stage. Where it is not known when the change was noticed, nothing is counted.
func (c *Counters) Reached(stage string, noticed, at time.Time) {
	if c != nil && !noticed.IsZero() && !at.IsZero() {
		c.stages.WithLabelValues(stage).Observe(max(0, at.Sub(noticed).Seconds()))
	}
}

// Delivered counts a try to deliver a notice.
func (c *Counters) Delivered(way, outcome string) {
	if c != nil {
		c.deliveries.WithLabelValues(way, outcome).Inc()
	}
}

// Pushed counts a try to push a name.
func (c *Counters) Pushed(taken bool) {
	if c == nil {
		return
	}
	outcome := "failed"
	if taken {
		outcome = "taken"
	}
	c.pushes.WithLabelValues(outcome).Inc()
}
