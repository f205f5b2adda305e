package daemon

import (
	"net/http"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"inkpost.example/inkpost/internal/wire/authdns"
)

// metrics serves the counters of a name server, and what the Go runtime says of itself, as OpenMetrics.
func metrics(names *authdns.Server) http.Handler {
	registry := prometheus.NewRegistry()
	registry.MustRegister(collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
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
		registry.MustRegister(prometheus.NewCounterFunc(prometheus.CounterOpts{Namespace: "inkpost", Subsystem: "dns", Name: c.name + "_total", Help: c.help},
			func() float64 { return float64(c.value(names.Counts())) }))
	}
	return promhttp.HandlerFor(registry, promhttp.HandlerOpts{EnableOpenMetrics: true})
}
