package guest_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/causes"
	"inkpost.example/inkpost/internal/core/diagnose"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/testbed/spaces"
)

// troubled is a site two routers away, with real servers on its devices, and faults that the test makes there and mends.
type troubled struct {
	*place
	running running
	full    bool
}

// inTrouble builds a site as it should be; with an agent, if that is wanted. full: with all devices.
func inTrouble(t *testing.T, b spaces.Behind, agent, full bool, link client.Fields) *troubled {
	t.Helper()
	s := &troubled{place: settle(t, b), full: full, running: running{of: map[string]*spaces.Process{}, dirs: map[string]string{}}}
	for name, d := range sited {
		s.Plug(name, d.mac, d.at+"/24")
	}
	s.quietRouter(true)
	for name := range stood {
		if s.has(name) {
			s.start(name)
		}
	}
	s.forwards("router", nil)
	if b.Front != "" {
		s.forwards("front", nil)
	}
	if agent {
		s.work()
	} else {
		_, err := s.EditLink(t.Context(), code, "main", client.Fields{"mode": "static", "ipv4": s.WAN})
		require.NoError(t, err)
	}
	if link != nil {
		_, err := s.EditLink(t.Context(), code, "main", link)
		require.NoError(t, err)
	}
	for name, d := range sited {
		_, err := s.AddDevice(t.Context(), code, contract.DeviceInput{Name: name, Address: d.at, MAC: d.mac})
		require.NoError(t, err)
	}
	for name := range stood {
		if x := s.x(name); s.has(name) {
			_, err := s.AddService(t.Context(), code, contract.ServiceInput{Name: name, Device: x.device, Kind: x.kind,
				Transport: x.transport, External: fmt.Sprint(x.port), Interval: 10, Options: x.options})
			require.NoError(t, err)
		}
	}
	s.awaitHealthy(60 * time.Second)
	return s
}

// has reports whether a service is part of the site.
func (s *troubled) has(name string) bool { return s.full || !stood[name].full }

// quietRouter has what stands at the edge of the site drop what is not forwarded, as most do.
func (s *troubled) quietRouter(quiet bool) {
	for _, space := range s.edges() {
		if quiet {
			s.rule(space, "inkquiet", "input", "iifname wan meta l4proto { tcp, udp } th dport 8000-9000 drop")
		} else {
			s.unrule(space, "inkquiet")
		}
	}
}

func (s *troubled) edges() []string {
	if _, err := os.Stat("/var/run/netns/" + s.Name("front")); err == nil {
		return []string{"router", "front"}
	}
	return []string{"router"}
}

// rule adds a filter rule in a table of its own.
func (s *troubled) rule(space, table, hook, rule string) {
	s.In(space, "nft", fmt.Sprintf("add table inet %s; add chain inet %s c { type filter hook %s priority -5; }; add rule inet %s c %s",
		table,
		table, hook, table, rule))
}

func (s *troubled) unrule(space, table string) { s.In(space, "nft", "delete table inet "+table) }

// forwards makes the forwards of a space anew: those of the services, but for what is changed. An empty target leaves one out.
func (s *troubled) forwards(space string, changed map[string]string) {
	s.In(space, "nft", "add table ip inkfwd; delete table ip inkfwd; add table ip inkfwd; add chain ip inkfwd pre { type nat hook "+
		"prerouting "+
		"priority -110; }")
	for name := range stood {
		x := s.x(name)
		to := fmt.Sprintf("%s:%d", sited[x.device].at, x.port)
		if space == "front" {
			to = fmt.Sprintf("%s:%d", s.RouterWAN(), x.port)
		}
		if other, ok := changed[name]; ok {
			to = other
		}
		if to != "" && s.has(name) {
			s.In(space, "nft", fmt.Sprintf("add rule ip inkfwd pre iifname wan %s dport %d dnat to %s", x.transport, x.port, to))
		}
	}
}

// none has a space pass on nothing at all.
func (s *troubled) none(space string) {
	empty := map[string]string{}
	for name := range stood {
		empty[name] = ""
	}
	s.forwards(space, empty)
}

// open returns the open finding that explains a service.
func (s *troubled) open(service string) (f diagnose.Finding, ok bool) {
	list, err := s.Faults(context.Background(), code, true)
	if err != nil {
		return f, false
	}
	for _, one := range list {
		if slices.Contains(one.Finding.Services, service) {
			return one.Finding, true
		}
	}
	return f, false
}

func (s *troubled) awaitHealthy(within time.Duration) time.Duration {
	s.t.Helper()
	began := time.Now()
	require.EventuallyWithT(s.t, func(c *collect) {
		list, err := s.Services(context.Background(), code)
		require.NoError(c, err)
		for _, one := range list {
			require.Equal(c, probe.StateReachable, one.State, "%s: %s", one.Name, one.Message)
		}
		faults, err := s.Faults(context.Background(), code, true)
		require.NoError(c, err)
		for _, f := range faults {
			require.False(c, f.Serious, "%s: %s", f.Finding.Cause, f.Finding.Summary)
		}
	}, within, 100*time.Millisecond)
	return time.Since(began)
}

// told is what was said of one fault at one service.
type told struct {
	fault, place, service string
	opened, ended         time.Duration
	first, last           diagnose.Finding
	want                  []causes.Slug
}

// right reports whether the first answer was right, or named the cause where it stayed open.
func (x told) right() string {
	switch {
	case slices.Contains(x.want, x.first.Cause):
		return "right"
	case slices.ContainsFunc(x.first.Between, func(c causes.Slug) bool { return slices.Contains(x.want, c) }):
		return "named"
	case slices.Contains(x.want, x.last.Cause):
		return "later"
	}
	return "wrong"
}

// try makes a fault, or two, waits for what is said of each, and mends them.
func (s *troubled) try(where string, f trouble) (out []told) {
	s.t.Helper()
	parts := []trouble{f}
	if f.and != "" {
		other := troubles[slices.IndexFunc(troubles, func(x trouble) bool { return x.name == f.and })]
		parts = append(parts, other)
	}
	if s.full { // what breaks does not wait until everything has just been looked at
		time.Sleep(rand.N(10 * time.Second))
	}
	began := time.Now()
	for _, p := range parts {
		x := told{fault: f.name, place: where, service: p.service(), want: p.want}
		if !s.observed() {
			x.want = slices.Concat(p.want, p.alone)
		}
		out = append(out, x)
		mend := p.make(s)
		defer mend()
	}
	for time.Since(began) < 60*time.Second {
		done := true
		for i := range out {
			x := &out[i]
			got, ok := s.open(x.service)
			if ok && x.opened == 0 {
				x.opened, x.first = time.Since(began), got
			}
			if ok {
				x.last = got
			}
			done = done && x.opened != 0 && (slices.Contains(x.want, got.Cause) || time.Since(began) > x.opened+8*time.Second)
		}
		if os.Getenv("INKPOST_FAULT") != "" {
			list, _ := s.LAN(context.Background(), code, false)
			s.t.Logf("%v %+v\n%+v", time.Since(began), out[0].last, list)
		}
		if done {
			break
		}
		time.Sleep(100 * time.Millisecond) // how often a person would look: nothing tells when nothing more will be said
	}
	return out
}

// observed reports whether an agent looks from inside.
func (s *troubled) observed() bool { return s.agent != nil }

func (x told) String() string {
	return fmt.Sprintf("%-12s %-44s %-7s %-6s %5.1f s %5.1f s  %s %v %s", x.place, x.fault, x.service, x.right(), x.opened.Seconds(),
		x.ended.Seconds(), x.first.Sure, append([]causes.Slug{x.first.Cause}, x.first.Between...), lastWords(x))
}

func lastWords(x told) string {
	if x.last.Cause == x.first.Cause {
		return ""
	}
	return "then " + string(x.last.Cause)
}

// places are what stands between outside and the devices, and who looks from inside.
var places = map[string]struct {
	behind spaces.Behind
	agent  bool
	short  bool // part of every test run
	link   client.Fields
	only   func(trouble) bool
}{
	"router":        {spaces.FarDirect, true, true, nil, func(f trouble) bool { return !f.modem && !f.carrier }},
	"router alone":  {spaces.FarDirect, false, false, nil, func(f trouble) bool { return !f.modem && !f.carrier && !f.inside }},
	"modem":         {spaces.FarModem, true, true, nil, func(f trouble) bool { return !f.carrier && !f.public }},
	"modem alone":   {spaces.FarModem, false, false, nil, func(f trouble) bool { return !f.carrier && !f.inside && !f.public }},
	"carrier":       {spaces.FarMiddle, true, false, nil, func(f trouble) bool { return f.carrier || f.within }},
	"router, lends": {spaces.FarDirect, true, true, client.Fields{"may_map": true}, func(f trouble) bool { return f.lent }},
}

// TestWhatIsSaidOfFaultsBehindRealNAT makes faults behind real kernel NAT, one after another, and holds what is said against what is so.
// INKPOST_TRUTH=full makes all of them, and INKPOST_FAULT=NAME one of them only.
func TestWhatIsSaidOfFaultsBehindRealNAT(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes minutes")
	}
	t.Parallel()
	full, only := os.Getenv("INKPOST_TRUTH") == "full", os.Getenv("INKPOST_FAULT")
	var mu sync.Mutex
	var all []told
	t.Run("sites", func(t *testing.T) {
		for name, v := range places {
			if where := os.Getenv("INKPOST_PLACE"); !full && !v.short || where != "" && where != name {
				continue
			}
			t.Run(name, func(t *testing.T) {
				t.Parallel()
				s := inTrouble(t, v.behind, v.agent, full, v.link)
				for _, f := range append(slices.Clone(troubles), pairs...) {
					if only != "" && f.name != only || !v.only(f) || !full && !(f.short && f.modem == (v.behind.Front != "")) {
						continue
					}
					list := s.try(name, f)
					ended := s.awaitHealthy(90 * time.Second)
					mu.Lock()
					for _, x := range list {
						x.ended = ended
						all = append(all, x)
						t.Log(x)
					}
					mu.Unlock()
				}
			})
		}
	})
	if len(all) == 0 {
		t.Skip("only root may make network namespaces")
	}
	judged(t, all, full)
}

// judged prints what was said, and holds it against what is so.
func judged(t *testing.T, all []told, full bool) {
	slices.SortFunc(all, func(a, b told) int { return strings.Compare(a.place+a.fault, b.place+b.fault) })
	counts := map[string]int{}
	var opened, ended []time.Duration
	for _, x := range all {
		counts[x.right()]++
		opened, ended = append(opened, x.opened), append(ended, x.ended)
		if full {
			fmt.Println(x)
		}
		require.NotEmpty(t, x.first.Cause, "%s: nothing was said of it", x.fault)
		require.Less(t, x.opened, 45*time.Second, x.fault)
	}
	slices.Sort(opened)
	slices.Sort(ended)
	line := fmt.Sprintf("of %d faults: %v; opened after %.1f s (median), %.1f s (p95), closed after %.1f s, %.1f s", len(all), counts,
		opened[len(all)/2].Seconds(), opened[len(all)*95/100].Seconds(), ended[len(all)/2].Seconds(), ended[len(all)*95/100].Seconds())
	if full {
		fmt.Println(line)
	}
	t.Log(line)
	require.LessOrEqual(t, counts["wrong"]+counts["later"], len(all)/20, "more than one of twenty is told wrongly: %v", all)
}
