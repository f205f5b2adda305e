package days_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"time"
)

// trouble is something that the script did which has to be told as a fault, from when to when by the service's clock.
type trouble struct {
	what        string
	provider    string   // of which all sites are concerned; "" for those of sites
	sites       []string // codes
	from, until time.Time
	words       []string // one of which everything has that is told of it
	may         bool     // it may be that nothing is told
	told        int      // faults
}

// says reports whether what was told of it at a time is right. What it was told as before does not count. That others are dark, too, nobody
// can know of the first.
func (t *trouble) says(words string, at time.Time) bool {
	if t.provider != "" && at.Sub(t.from) < 2*time.Minute {
		return strings.Contains(words, "dark") || strings.Contains(words, "power or its line is down")
	}
	words, _, _ = strings.Cut(words, "; before, it was told as ")
	return slices.ContainsFunc(t.words, func(part string) bool { return strings.Contains(words, part) })
}

// step is something that happens at a time after the start.
type step struct {
	at time.Duration
	do func()
}

// script is what happens in the world.
type script struct {
	w          *world
	random     *rand.Rand
	steps      []step
	troubles   []*trouble
	renumbered int
}

var providers = []string{"Kettle Cable", "Gannet Fibre", "Saltmarsh Wireless"}

const (
	ends  = 25 * time.Minute // how long troubles last
	early = 8 * time.Minute  // when in an hour they begin
	// lossFor is how long packets that were lost count: 24 rounds.
	lossFor = 25 * time.Minute
)

// write makes the script for so many hours: each hour has something else in it, and every night a provider renumbers its customers.
func write(w *world, hours int, seed uint64) *script {
	s := &script{w: w, random: rand.New(rand.NewPCG(seed, 42))}
	few := max(1, len(w.places)/50)
	leaps := []time.Duration{90 * time.Minute, -60 * time.Minute, -30 * time.Minute}
	for h := 1; h < hours; h++ { // nothing is under way when the last one ends
		at := time.Duration(h)*time.Hour + early
		switch h % 6 {
		case 1:
			s.each("its recorder has no power", few, at, func(p *place, is bool) { p.off = is }, "it is off, or its cable is out")
		case 2:
			s.each("its forward to the panel is gone", few, at, func(p *place, is bool) { p.closed = is }, "refuses")
		case 3:
			s.outage(providers[h/6%len(providers)], at)
		case 4:
			s.flaps(few, at)
			s.restarts(few, at)
		case 5:
			s.each("its agent does not run", few, at, func(p *place, is bool) { p.mute = is }, "overdue")
		case 0:
			by := leaps[(h/6-1)%len(leaps)]
			s.add(at, func() { w.leap.Add(int64(by)) })
		}
		if h%24 == 7 {
			s.renumber(providers[1], time.Duration(h)*time.Hour)
		}
	}
	slices.SortStableFunc(s.steps, func(a, b step) int { return int(a.at - b.at) })
	return s
}

func (s *script) add(at time.Duration, do func()) { s.steps = append(s.steps, step{at, do}) }

// some picks places, each of them once.
func (s *script) some(n int) []*place {
	out := make([]*place, n)
	for i, at := range s.random.Perm(len(s.w.places))[:n] {
		out[i] = s.w.places[at]
	}
	return out
}

// each has something wrong at some places, a little after one another.
func (s *script) each(what string, n int, at time.Duration, wrong func(p *place, is bool),
	words ...string) {
	for _, p := range s.some(n) {
		began := at + time.Duration(s.random.IntN(300))*time.Second
		t := &trouble{what: what, sites: []string{p.code}, words: words}
		s.troubles = append(s.troubles, t)
		s.add(began, func() { t.from = s.w.clock(); s.w.set(func() { wrong(p, true) }) })
		s.add(began+ends, func() { t.until = s.w.clock(); s.w.set(func() { wrong(p, false) }) })
	}
}

// outage darkens all sites of a provider at once.
func (s *script) outage(provider string, at time.Duration) {
	t := &trouble{what: "the provider has an outage", provider: provider, words: []string{"dark"}}
	dark := func(is bool) {
		for _, p := range s.w.places {
			if p.provider == provider {
				p.dark = is
			}
		}
	}
	s.troubles = append(s.troubles, t)
	s.add(at, func() { t.from = s.w.clock(); s.w.set(func() { dark(true) }) })
	s.add(at+ends, func() { t.until = s.w.clock(); s.w.set(func() { dark(false) }) })
}

// flaps has links of some places down for five seconds, ten times: no more is to be told of that than that the line loses packets.
func (s *script) flaps(n int, at time.Duration) {
	for _, p := range s.some(n) {
		t := &trouble{what: "its line flaps", sites: []string{p.code}, words: []string{"loses"}, may: true}
		s.troubles = append(s.troubles, t)
		s.add(at, func() { t.from = s.w.clock() })
		s.add(at+22*time.Minute, func() { t.until = s.w.clock() })
		for i := range 10 {
			began := at + time.Duration(i)*2*time.Minute + time.Duration(s.random.IntN(60))*time.Second
			s.add(began, func() { s.w.set(func() { p.dark = true }) })
			s.add(began+5*time.Second, func() { s.w.set(func() { p.dark = false }) })
		}
	}
}

// restarts has agents of some places silent for as long as a restart takes.
func (s *script) restarts(n int, at time.Duration) {
	for _, p := range s.some(n) {
		began := at + time.Duration(s.random.IntN(600))*time.Second
		s.add(began, func() { s.w.set(func() { p.mute = true }) })
		s.add(began+90*time.Second, func() { s.w.set(func() { p.mute = false }) })
	}
}

// renumber gives each customer of a provider another address, within an hour.
func (s *script) renumber(provider string, at time.Duration) {
	for _, p := range s.w.places {
		if p.provider == provider {
			s.renumbered++
			s.add(at+time.Duration(s.random.IntN(3300))*time.Second, func() { s.w.set(func() { s.w.address(p) }) })
		}
	}
}

// of finds what the script did that explains a fault at a site, or of a provider, which was open from one time to another.
func (s *script) of(site, provider string, opened, closed time.Time) *trouble {
	for _, t := range s.troubles {
		late := time.Minute
		if t.may { // packets that were lost count for a while
			late = lossFor
		}
		switch {
		case opened.Before(t.from) || opened.After(t.until.Add(late)) || closed.After(t.until.Add(closesWithin+late)):
		case site == "" && t.provider == provider, t.provider == "" && slices.Contains(t.sites, site):
			return t
		case t.provider != "":
			i := slices.IndexFunc(s.w.places, func(p *place) bool { return p.code == site })
			if i >= 0 && s.w.places[i].provider == t.provider {
				return t
			}
		}
	}
	return nil
}

func (t *trouble) String() string {
	return fmt.Sprintf("%s %v%s, %s to %s", t.what, t.sites, t.provider, t.from.Format(time.DateTime), t.until.Format(time.TimeOnly))
}
