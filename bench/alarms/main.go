// Alarms simulates a week of services that are looked at through a bad network, and counts false alarms and how long a real
// outage takes to be recognised. It runs the rules of the core on a simulated clock.
package main

import (
	"flag"
	"fmt"
	"slices"
	"time"
)

func main() {
	c := scene{}
	flag.IntVar(&c.services, "services", 1000, "how many services")
	flag.Float64Var(&c.days, "days", 7, "how many days")
	flag.Float64Var(&c.loss, "loss", 0.05, "share of probes that are lost")
	flag.Float64Var(&c.hiccups, "hiccups", 7, "short hiccups of a link a week")
	flag.IntVar(&c.outages, "outages", 200, "real outages, of ten minutes each")
	flag.DurationVar(&c.interval, "interval", time.Minute, "between probes")
	flag.Uint64Var(&c.seed, "seed", 1, "of the random numbers")
	flag.IntVar(&c.vantages, "vantages", 3, "how many vantage points; the last of them flaps")
	flag.Parse()
	began := time.Now()
	r := simulate(c)
	slices.Sort(r.delays)
	fmt.Printf("%d services, %.0f days, %d vantage points of which one flaps, %.0f %% of probes lost: %d probes simulated "+
		"in %.0f s\n", c.services, c.days, c.vantages, 100*c.loss, r.probes, time.Since(began).Seconds())
	fmt.Printf("wrong changes of state: %d (goal 0)\n", r.wrong)
	for _, words := range r.examples {
		fmt.Println("  ", words)
	}
	if n := len(r.delays); n > 0 {
		fmt.Printf("real outages: %d recognised, %d missed; after %.0f s in the median, %.0f s at the longest (goal %.0f s: two "+
			"intervals)\n", n, r.missed, r.delays[n/2].Seconds(), r.delays[n-1].Seconds(), (2 * c.interval).Seconds())
	}
}
