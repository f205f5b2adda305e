package main

import (
	"container/heap"
	"fmt"
	"math/rand/v2"
	"time"

	"inkpost.example/inkpost/internal/core/pace"
	"inkpost.example/inkpost/internal/core/probe"
)

// scene is what is simulated: services on links, looked at from several vantage points through a network that loses probes.
type scene struct {
	services int
	vantages int           // the last of them flaps: it is blind two minutes of every five
	days     float64       // how long
	interval time.Duration // between probes
	loss     float64       // share of probes that are lost
	hiccups  float64       // a week and link, each of 2 to 20 s
	outages  int           // real ones, each of ten minutes
	seed     uint64
}

// result of a simulation.
type result struct {
	probes   int
	wrong    int // changes of state that nothing real stood behind
	missed   int // real outages that were not recognised
	delays   []time.Duration
	examples []string // of wrong changes
}

// event is a probe that is due. An older version of the same probe is passed over.
type event struct {
	at               time.Duration
	service, vantage int32
	version          int32
}

type events []event

// deadline of a probe.
const deadline = 3 * time.Second

func (e events) Len() int           { return len(e) }
func (e events) Less(i, j int) bool { return e[i].at < e[j].at }
func (e events) Swap(i, j int)      { e[i], e[j] = e[j], e[i] }
func (e *events) Push(x any)        { *e = append(*e, x.(event)) }
func (e *events) Pop() any {
	last := len(*e) - 1
	x := (*e)[last]
	*e = (*e)[:last]
	return x
}

type stretch struct{ from, until time.Duration }

func (s stretch) holds(at time.Duration) bool { return at >= s.from && at < s.until }

// simulate runs the rules of the core on a simulated clock.
func simulate(c scene) (out result) {
	r := rand.New(rand.NewPCG(c.seed, 11))
	begin := time.Date(2026, 11, 16, 0, 0, 0, 0, time.UTC)
	end := time.Duration(c.days * 24 * float64(time.Hour))
	rule := probe.Rule{Expected: probe.ExpectReachable, Sustain: pace.Sustain(c.interval), Stale: pace.Stale(c.interval)}
	views := make([][]probe.View, c.services)
	versions := make([][]int32, c.services)
	states := make([]probe.State, c.services)
	hiccups := make([][]stretch, c.services)
	outage := make([]stretch, c.services)
	seen := make([]bool, c.services)
	var queue events
	for s := range c.services {
		views[s], versions[s] = make([]probe.View, c.vantages), make([]int32, c.vantages)
		states[s] = probe.StateUnknown
		for n := c.hiccups * c.days / 7; n > 0 && r.Float64() < n; n-- {
			from := time.Duration(r.Float64() * float64(end))
			hiccups[s] = append(hiccups[s], stretch{from, from + 2*time.Second + time.Duration(r.Float64()*float64(18*time.Second))})
		}
		for v := range c.vantages {
			queue = append(queue, event{at: pace.First(begin, c.interval, r.Float64()).Sub(begin), service: int32(s), vantage: int32(v)})
		}
	}
	for i := range c.outages {
		s := (i * c.services) / c.outages
		from := time.Duration((0.1 + 0.8*r.Float64()) * float64(end))
		outage[s] = stretch{from, from + 10*time.Minute}
	}
	heap.Init(&queue)
	fails := func(s, v int, at time.Duration) bool {
		if outage[s].holds(at) || r.Float64() < c.loss || v == c.vantages-1 && at%(5*time.Minute) < 2*time.Minute {
			return true
		}
		for _, h := range hiccups[s] {
			if h.holds(at) {
				return true
			}
		}
		return false
	}
	next := func(s, v int, at time.Duration) {
		versions[s][v]++
		heap.Push(&queue, event{at, int32(s), int32(v), versions[s][v]})
	}
	unfit := make([]bool, c.vantages)
	var reviewed time.Duration
	counted := make([]probe.View, 0, c.vantages)
	for len(queue) > 0 {
		if queue[0].at > reviewed+reviewEvery {
			reviewed = queue[0].at
			unfit = fitness(rule, views, unfit, begin.Add(reviewed))
		}
		e := heap.Pop(&queue).(event)
		s, v := int(e.service), int(e.vantage)
		if e.version != versions[s][v] {
			continue
		}
		if e.at >= end {
			break
		}
		out.probes++
		at := e.at
		outcome := probe.Answered
		if fails(s, v, at) {
			outcome = probe.Silent
			at += deadline
		}
		now := begin.Add(at)
		before := views[s][v]
		view := rule.Next(before, outcome, now)
		views[s][v] = view
		counted = counted[:0]
		for o, one := range views[s] {
			if !unfit[o] {
				counted = append(counted, one)
			}
		}
		state := probe.Verdict(rule, states[s], counted, now)
		if state != states[s] && states[s] != probe.StateUnknown {
			// A change towards what is so is right, however late; for the worse, after an outage, for two intervals more.
			down := outage[s].holds(at)
			just := down || outage[s].until > 0 && at >= outage[s].until && at < outage[s].until+2*c.interval
			switch {
			case state != probe.StateReachable && !just, state == probe.StateReachable && down:
				out.wrong++
				if len(out.examples) < 5 {
					out.examples = append(out.examples,
						fmt.Sprintf("service %d at %s from %s to %s: views %+v, left out %v, outage %v, hiccups %v", s, at, states[s],
							state, views[s], unfit, outage[s], hiccups[s]))
				}
			case outage[s].holds(at) && !seen[s] && state == probe.StateUnreachable:
				seen[s] = true
				out.delays = append(out.delays, at-outage[s].from)
			}
		}
		states[s] = state
		if outcome == probe.Silent {
			if before.InRow == 0 || before.Outcome != probe.Silent { // the others look at once
				for o := range c.vantages {
					if o != v {
						next(s, o, at)
					}
				}
			}
			if !rule.Settled(view) {
				next(s, v, pace.Confirm(now, view.Since, deadline, view.InRow, probe.Confirmations, c.interval).Sub(begin))
				continue
			}
		}
		next(s, v, pace.Next(now, c.interval, r.Float64()).Sub(begin))
	}
	for s := range outage {
		if outage[s].until > 0 && !seen[s] {
			out.missed++
		}
	}
	return out
}

// reviewEvery is how often it is found out which vantage points are wrong themselves; the service does so more often.
const reviewEvery = 10 * time.Second

func fitness(rule probe.Rule, views [][]probe.View, before []bool, now time.Time) []bool {
	out := make([]bool, len(before))
	sights := make([]probe.SharedView, len(before))
	for _, of := range views {
		for v, mine := range of {
			for o, other := range of {
				if o == v || rule.Meaning(other.Outcome) != probe.AsWanted || now.Sub(other.At) > rule.Stale {
					continue
				}
				sights[v].Shared++
				if rule.Meaning(mine.Outcome) == probe.NotWanted && mine.InRow >= probe.Confirmations {
					sights[v].Failing++
				}
				break
			}
		}
	}
	for v, s := range sights {
		out[v] = s.Unfit(before[v])
	}
	return out
}
