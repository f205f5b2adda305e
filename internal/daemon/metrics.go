package daemon

import (
	"errors"
	"net/http"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"inkpost.example/inkpost/internal/core/ledger"
	"inkpost.example/inkpost/internal/engine"
	"inkpost.example/inkpost/internal/engine/counters"
	"inkpost.example/inkpost/internal/wire/authdns"
)

// metrics serves what is counted, and how everything stands, as OpenMetrics: docs/metrics.md lists it all.
func metrics(names *authdns.Server, serving func() *engine.Engine, count *counters.Counters) (http.Handler, error) {
	registry := prometheus.NewRegistry()
	if err := registerOwn(registry, names, serving, count); err != nil {
		return nil, err
	}
	registry.MustRegister(collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	return promhttp.HandlerFor(registry, promhttp.HandlerOpts{EnableOpenMetrics: true}), nil
}

// registerOwn registers what is ours: all but what the runtime and the process say of themselves. Error: a name is taken.
func registerOwn(registry prometheus.Registerer, names *authdns.Server, serving func() *engine.Engine, count *counters.Counters) error {
	for _, c := range []struct {
		name, help string
		value      func(authdns.Counts) uint64
	}{
		{"answers", "DNS answers given", func(c authdns.Counts) uint64 { return c.Answered }},
		{"answers_cut_short", "DNS answers over a client network's limit, truncated", func(c authdns.Counts) uint64 { return c.CutShort }},
		{"answers_left_out", "DNS answers over a client network's limit, left out", func(c authdns.Counts) uint64 { return c.Silenced }},
		{"transfers_whole", "whole zones transferred", func(c authdns.Counts) uint64 { return c.TransfersWhole }},
		{"transfers_part", "differences of zones transferred", func(c authdns.Counts) uint64 { return c.TransfersPart }},
		{"transfers_refused", "zone transfers refused", func(c authdns.Counts) uint64 { return c.TransfersRefused }},
		{"updates", "DNS updates taken in", func(c authdns.Counts) uint64 { return c.Updates }},
		{"signatures_refused", "requests whose TSIG was refused", func(c authdns.Counts) uint64 { return c.BadSignatures }},
	} {
		if err := registry.Register(prometheus.NewCounterFunc(prometheus.CounterOpts{Namespace: "inkpost", Subsystem: "dns",
			Name: c.name + "_total", Help: c.help},
			func() float64 { return float64(c.value(names.Counts())) })); err != nil {
			return err
		}
	}
	return errors.Join(registry.Register(engineMetrics{serving}), registry.Register(standingMetrics{serving}), count.Register(registry))
}

// engineMetrics collects what the prober has done, how services stand, and who could not sign in.
type engineMetrics struct{ serving func() *engine.Engine }

var (
	limitedDesc = prometheus.NewDesc("inkpost_probe_limited_packets_total", "Packets with a hop limit that were sent to find out "+
		"where a port fails",
		nil, nil)
	roundsDesc = prometheus.NewDesc("inkpost_probe_rounds_total", "Rounds of probes taken in, from all vantage points",
		[]string{"kind", "outcome"}, nil)
	lagDesc      = prometheus.NewDesc("inkpost_probe_lag_seconds", "How late rounds began here, in seconds", nil, nil)
	servicesDesc = prometheus.NewDesc("inkpost_services", "Services by state", []string{"state"}, nil)
	signInsDesc  = prometheus.NewDesc("inkpost_sign_ins_failed_total", "Tries to sign in with a wrong name or password", nil, nil)
	sessionsDesc = prometheus.NewDesc("inkpost_sessions_opened_total", "Sessions that were opened, by signing in or by a change of the "+
		"password", nil, nil)
	vantagesDesc = prometheus.NewDesc("inkpost_vantage_points", "Vantage points by state", []string{"state"}, nil)
)

// Describe implements prometheus.Collector.
func (engineMetrics) Describe(out chan<- *prometheus.Desc) {
	for _, d := range []*prometheus.Desc{roundsDesc, limitedDesc, lagDesc, servicesDesc, vantagesDesc, signInsDesc, sessionsDesc} {
		out <- d
	}
}

// Collect implements prometheus.Collector.
func (m engineMetrics) Collect(out chan<- prometheus.Metric) {
	e := m.serving()
	if e == nil {
		return
	}
	out <- prometheus.MustNewConstMetric(signInsDesc, prometheus.CounterValue, float64(e.Access.FailedSignIns()))
	out <- prometheus.MustNewConstMetric(sessionsDesc, prometheus.CounterValue, float64(e.Access.SessionsOpened()))
	c := e.ProbeCounts()
	for k, n := range c.Outcomes {
		out <- prometheus.MustNewConstMetric(roundsDesc, prometheus.CounterValue, float64(n), string(k.Kind), string(k.Outcome))
	}
	buckets, total := map[float64]uint64{}, uint64(0)
	for i, n := range c.Lags.Classes {
		total += n
		if i < len(ledger.LagBounds) {
			buckets[ledger.LagBounds[i].Seconds()] = total
		}
	}
	out <- prometheus.MustNewConstHistogram(lagDesc, total, c.Lags.Sum.Seconds(), buckets)
	out <- prometheus.MustNewConstMetric(limitedDesc, prometheus.CounterValue, float64(c.Limited))
	for s, n := range c.States {
		out <- prometheus.MustNewConstMetric(servicesDesc, prometheus.GaugeValue, float64(n), string(s))
	}
	for s, n := range c.Vantages {
		out <- prometheus.MustNewConstMetric(vantagesDesc, prometheus.GaugeValue, float64(n), s)
	}
}
