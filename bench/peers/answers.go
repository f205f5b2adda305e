package main

import (
	"context"
	"fmt"
	"runtime"
	"strings"

	"inkpost.example/inkpost/bench/figures"
)

const moves = 500 // a second

// answers asks all servers the same questions. Ink Post has one processor, as the others have one worker, and has 500 moves a
// second to carry out in one of its two turns; the others have nothing else to do.
func answers(r rig) error {
	var questions strings.Builder
	for i := range zoneNames {
		fmt.Fprintf(&questions, "site-%d.%s A\n", i*7919%zoneNames, apex)
	}
	data, err := r.write("questions", questions.String())
	if err != nil {
		return err
	}
	peers := map[string]server{}
	for _, start := range []func() (server, error){r.nsd, r.bind, r.knot} {
		s, err := start()
		if err != nil {
			return err
		}
		defer s.stop()
		peers[s.name] = s
	}
	us, err := r.inkpost(zoneNames, false)
	if err != nil {
		return err
	}
	defer us.stop()
	defer runtime.GOMAXPROCS(runtime.GOMAXPROCS(1))

	type measured struct{ rate, cost, kernel []float64 }
	got := map[string]*measured{}
	note := func(name string, o outcome, cpu spent) {
		if got[name] == nil {
			got[name] = &measured{}
		}
		got[name].rate = append(got[name].rate, o.rate)
		got[name].cost = append(got[name].cost, cpu.all/o.count*1e6)
		got[name].kernel = append(got[name].kernel, cpu.kernel/o.count*1e6)
	}
	const still, moving = "Ink Post", "Ink Post, 500 moves/s"
	for range r.rounds {
		for _, name := range []string{"NSD", "BIND", "Knot"} {
			s := peers[name]
			before, err := s.ticks()
			if err != nil {
				return err
			}
			o, err := r.dnsperf(s.port, data, 100)
			if err != nil {
				return err
			}
			after, err := s.ticks()
			if err != nil {
				return err
			}
			note(name, o, after.since(before))
		}
		for _, name := range []string{still, moving} {
			ctx, stop := context.WithCancel(r.ctx)
			moved := func() int { return 0 }
			if name == moving {
				moved = us.move(ctx, moves)
			}
			before := ticks()
			o, err := r.dnsperf(us.port, data, 100)
			after := ticks()
			stop()
			if err != nil {
				return err
			}
			if n := moved(); name == moving && n < moves*r.seconds*9/10 {
				return fmt.Errorf("only %d moves in %d s", n, r.seconds)
			}
			note(name, o, after.since(before))
		}
	}
	worst := 0.0 // beside BIND, of all rounds
	for i, rate := range got[still].rate {
		if x := rate / got["BIND"].rate[i]; i == 0 || x < worst {
			worst = x
		}
	}
	nsd, bind, knot := median(got["NSD"].rate), median(got["BIND"].rate), median(got["Knot"].rate)
	nsdCost := median(got["NSD"].cost)
	fmt.Printf("Questions for %d names, one worker each, dnsperf with 100 outstanding, median of %d\n", zoneNames, r.rounds)
	fmt.Printf("%-24s %12s %8s %8s %8s %14s %8s %14s\n", "", "answers/s", "x NSD", "x BIND", "x Knot", "µs CPU/answer", "x NSD",
		"µs in kernel")
	for _, name := range []string{"NSD", "BIND", "Knot", still, moving} {
		rate, cost := median(got[name].rate), median(got[name].cost)
		fmt.Printf("%-24s %12.0f %8.2f %8.2f %8.2f %14.2f %8.2f %14.2f\n", name, rate, rate/nsd, rate/bind, rate/knot, cost,
			cost/nsdCost, median(got[name].kernel))
	}
	fmt.Printf("%s: %.2f x BIND in the worst round\n", still, worst)
	rate := func(name string) float64 { return median(got[name].rate) }
	per := func(name string) string { return fmt.Sprintf("%.0f answers/s", rate(name)) }
	figures.Plain("answers", "hosted answers, still", rate(still), "a second", "")
	figures.AtLeast("answers", "hosted answers, still, beside NSD", rate(still)/nsd, "x", 1.1, per("NSD"))
	figures.AtLeast("answers", "hosted answers, still, beside Knot", rate(still)/knot, "x", 1.0, per("Knot"))
	figures.AtLeast("answers", "hosted answers during 500 moves/s, beside NSD", rate(moving)/nsd, "x", 1.0, per("NSD"))
	figures.AtLeast("answers", "hosted answers, still, beside BIND, worst round", worst, "x", 1.5, per("BIND"))
	figures.AtMost("answers", "processor time an answer, beside NSD", median(got[still].cost)/nsdCost, "x", 0.9,
		fmt.Sprintf("%.1f µs", nsdCost))
	figures.Plain("answers", "of that, in the kernel", median(got[still].kernel), "µs", fmt.Sprintf("%.2f µs of NSD's",
		median(got["NSD"].kernel)))
	return nil
}
