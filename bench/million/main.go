// Million runs the rules of the core for a million services on a simulated clock: when each is probed, what a round means, what is kept of
// it. Servers are as fast as they are said to be, and share the services as the real ones do. It prints how late probes are with so many
// servers, and what the one that writes has to do for the others.
package main

import (
	"context"
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"time"

	"inkpost.example/inkpost/bench/figures"
	"inkpost.example/inkpost/internal/core/ledger"
	"inkpost.example/inkpost/internal/core/pace"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/engine/shards"
)

// perSite services are of one site, and so in one shard.
const perSite = 5

// world is what is simulated.
type world struct {
	services int
	interval time.Duration
	minutes  int
	failing  int     // share of services, in percent, that go silent after half of the time
	rate     float64 // rounds that a server makes a second at most
	judging  time.Duration
	servers  int
}

// service is one of them: what the core keeps of it, and its place in the queue.
type service struct {
	due    time.Time
	place  int
	server int // 0 is the one that writes
	state  probe.State
	view   probe.View
	span   ledger.Span
	day    ledger.Day
	until  time.Time
	silent bool
}

// DueAt implements pace.Dated.
func (s *service) DueAt() time.Time { return s.due }

// PutAt implements pace.Dated.
func (s *service) PutAt(place int) { s.place = place }

func main() {
	services := flag.Int("services", 1_000_000, "how many services")
	interval := flag.Duration("interval", time.Minute, "between two probes of each")
	minutes := flag.Int("minutes", 6, "how long, on the simulated clock")
	failing := flag.Int("failing", 5, "share of services, in percent, that go silent after half of that")
	rate := flag.Float64("rate", 12_000, "rounds that a server makes a second at most: go run ./bench/scale says how many")
	judges := flag.Duration("judging", 0, "what the one that writes takes to judge a round that another has made; 0: it is measured")
	servers := flag.String("servers", "1,2,3,5", "how many servers, one run each")
	flag.Parse()
	for _, text := range strings.Split(*servers, ",") {
		n, err := strconv.Atoi(text)
		if err != nil || n < 1 {
			fmt.Fprintf(os.Stderr, "-servers has numbers with commas, not %q\n", text)
			os.Exit(2)
		}
		if n > 1 && *judges == 0 {
			if *judges, err = judging(context.Background()); err != nil {
				fmt.Fprintln(os.Stderr, err)
				os.Exit(1)
			}
			fmt.Printf("a round that another server has made takes the one that writes %v of a processor\n", *judges)
			figures.Plain("a million", "a round that another server has made, at the one that writes", float64(judges.Nanoseconds())/1000,
				"µs", "")
		}
		simulate(world{*services, *interval, *minutes, *failing, *rate, *judges, n})
	}
}

// spread gives each service its server, as the real ones share them.
func spread(w world, list []service) {
	s := shards.New(time.Now)
	number := map[string]int{"": 0}
	for i := 1; i < w.servers; i++ {
		name := fmt.Sprintf("post-%d (https://post-%d.saltmarsh.example, process %d)", i+1, i+1, 700+i)
		number[name] = i
		s.Join(name, 1)
	}
	for i := range list {
		list[i].server = number[s.Holder(int64(i/perSite))]
	}
}

func simulate(w world) {
	r := rand.New(rand.NewPCG(7, 11))
	begin := time.Date(2026, 11, 16, 0, 0, 0, 0, time.UTC)
	end := begin.Add(time.Duration(w.minutes) * time.Minute)
	half := begin.Add(time.Duration(w.minutes) * time.Minute / 2)
	rule := probe.Rule{Expected: probe.ExpectReachable, Sustain: pace.Sustain(w.interval), Stale: pace.Stale(w.interval)}
	var before runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&before)
	list := make([]service, w.services)
	spread(w, list)
	var queue pace.Queue[*service]
	for i := range list {
		s := &list[i]
		s.state, s.day.Start = probe.StateUnknown, begin
		s.silent = r.IntN(100) < w.failing
		s.due = pace.First(begin, w.interval, r.Float64())
		queue.Add(s)
	}
	free := make([]time.Time, w.servers) // from when each has time
	for i := range free {
		free[i] = begin
	}
	took := time.Duration(float64(time.Second) / w.rate)
	rounds, judged, wrong := 0, 0, 0
	var late, told []time.Duration
	core := time.Duration(0)
	real := time.Now()
	for queue.Len() > 0 {
		s := queue.Peek()
		if !s.due.Before(end) {
			break
		}
		queue.Pop()
		at := s.due
		if free[s.server].After(at) {
			at = free[s.server]
		}
		free[s.server] = at.Add(took)
		if rounds++; rounds%16 == 0 {
			late = append(late, at.Sub(s.due))
		}
		if s.server != 0 { // the one that writes decides what it means
			judged++
			if free[0].Before(at) {
				free[0] = at
			}
			free[0] = free[0].Add(w.judging)
		}
		began := time.Time{}
		if rounds%1024 == 0 {
			began = time.Now()
		}
		outcome, latency := probe.Answered, time.Duration(8000+2000*r.ExpFloat64())*time.Microsecond
		down := s.silent && at.After(half)
		if down {
			outcome, latency = probe.Silent, 0
		}
		s.view = rule.Next(s.view, outcome, at)
		was := s.state
		s.state = probe.Verdict(rule, was, []probe.View{s.view}, at)
		if s.state != was && s.state == probe.StateUnreachable {
			if !down {
				wrong++
			}
			told = append(told, at.Sub(half))
		}
		result := ledger.Result{ServiceID: 1, VantageID: 1, Outcome: outcome, At: at, Latency: latency}
		s.span, _ = ledger.Fold(s.span, result, ledger.Gap(w.interval))
		if !s.until.IsZero() {
			s.day.Account(probe.ExpectReachable, s.state, s.until, at)
		}
		if s.until = at; latency > 0 {
			s.day.Latency.Add(latency)
		}
		s.due = pace.Next(at, w.interval, r.Float64())
		if down && !rule.Settled(s.view) {
			s.due = pace.Confirm(at, s.view.Since, 3*time.Second, s.view.InRow, probe.Confirmations, w.interval)
		}
		queue.Add(s)
		if !began.IsZero() {
			core += time.Since(began) * 1024
		}
	}
	var after runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&after)
	runtime.KeepAlive(list)
	slices.Sort(late)
	slices.Sort(told)
	at := func(list []time.Duration, q float64) time.Duration {
		return figures.Quantile(list, q).Round(time.Millisecond)
	}
	perSecond := float64(rounds) / (time.Duration(w.minutes) * time.Minute).Seconds()
	share := 100 * (time.Duration(judged) * w.judging).Seconds() / (time.Duration(w.minutes) * time.Minute).Seconds()
	fmt.Printf("%d services, %d servers of %.0f rounds/s: %.0f rounds/s; late %v (median), %v (99 %%); ", w.services, w.servers, w.rate,
		perSecond, at(late, 0.5), at(late, 0.99))
	fmt.Printf("failures told after %v (median), %v (99 %%), %d wrongly; the one that writes is busy judging for %.0f %% of a processor; ",
		at(told, 0.5), at(told, 0.99), wrong, share)
	fmt.Printf("the core takes %.1f µs a round and %.0f octets a service (%v of real time)\n",
		float64(core.Microseconds())/float64(rounds), float64(after.HeapAlloc-before.HeapAlloc)/float64(w.services),
		time.Since(real).Round(time.Second))
	what := fmt.Sprintf("a million services at 60 s, %d servers: ", w.servers)
	figures.Plain("a million", what+"lag, 99 %", at(late, 0.99).Seconds(), "s", "simulated clock")
	figures.Plain("a million", what+"failures told after, 99 %", at(told, 0.99).Seconds(), "s", "simulated clock")
	figures.Plain("a million", what+"of one processor, the writer's judging", share, "%", "simulated clock")
	if w.servers == 1 {
		figures.Plain("a million", "what the core takes a round", float64(core.Nanoseconds())/float64(rounds)/1000, "µs", "")
		figures.Plain("a million", "what the core keeps of a service", float64(after.HeapAlloc-before.HeapAlloc)/float64(w.services),
			"octets", "")
	}
}
