package guest_test

import (
	"context"
	"fmt"
	"net"
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
	"inkpost.example/inkpost/internal/lab/peer"
	"inkpost.example/inkpost/internal/testbed/spaces"
)

// troubled is a site two routers away, with a recorder that serves a page and a stream, a desk that serves a shell, and faults that the
// test
// makes there and mends.
type troubled struct {
	*place
	stops map[string]func() // by service
}

// The devices of a troubled site.
const (
	recorderAt = "192.168.7.30"
	deskAt     = "192.168.7.31"
	deskMAC    = "02:00:5e:07:00:02"
)

// stood are the services of a troubled site, and what answers there.
var stood = map[string]struct {
	space, device string
	port          int
	who           peer.Peer
}{
	"page":   {"recorder", "recorder", 8443, peer.Peer{Kind: probe.KindHTTPS, Name: "page"}},
	"stream": {"recorder", "recorder", 8554, peer.Peer{Kind: probe.KindRTSP, Name: "stream"}},
	"shell":  {"desk", "desk", 8022, peer.Peer{Kind: probe.KindSSH, Name: "shell"}},
}

// inTrouble builds a site as it should be; with an agent, if that is wanted.
func inTrouble(t *testing.T, b spaces.Behind, agent bool) *troubled {
	t.Helper()
	s := &troubled{place: settle(t, b), stops: map[string]func(){}}
	s.Plug("recorder", recorderMAC, recorderAt+"/24")
	s.Plug("desk", deskMAC, deskAt+"/24")
	s.quietRouter(true)
	if agent {
		s.work()
	} else {
		_, err := s.EditLink(t.Context(), code, "main", client.Fields{"mode": "static", "ipv4": s.WAN})
		require.NoError(t, err)
	}
	for name, d := range map[string]contract.DeviceInput{"recorder": {Address: recorderAt, MAC: recorderMAC},
		"desk": {Address: deskAt, MAC: deskMAC}} {
		d.Name = name
		_, err := s.AddDevice(t.Context(), code, d)
		require.NoError(t, err)
	}
	for name := range stood {
		s.start(name, stood[name].who)
		s.Forward(stood[name].port, s.lanSide(name))
		_, err := s.AddService(t.Context(), code, contract.ServiceInput{Name: name, Device: stood[name].device,
			Kind: string(stood[name].who.Kind), External: fmt.Sprint(stood[name].port), Interval: 10})
		require.NoError(t, err)
	}
	s.awaitHealthy(60 * time.Second)
	return s
}

func (s *troubled) lanSide(name string) string {
	at := recorderAt
	if stood[name].device == "desk" {
		at = deskAt
	}
	return fmt.Sprintf("%s:%d", at, stood[name].port)
}

// quietRouter has what stands at the edge of the site drop what is not forwarded, as most do.
func (s *troubled) quietRouter(quiet bool) {
	for _, space := range s.edges() {
		if quiet {
			s.rule(space, "inkquiet", "input", "iifname wan tcp dport 8000-9000 drop")
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

// start has somebody answer at a service's own port; stop ends that.
func (s *troubled) start(name string, who peer.Peer) {
	s.stops[name] = s.stand(stood[name].space, who, fmt.Sprintf("0.0.0.0:%d", stood[name].port))
}

func (s *troubled) stop(name string) { s.stops[name]() }

// hang has a port accept, and say nothing.
func (s *troubled) hang(space string, port int) (stop func()) {
	var l net.Listener
	require.NoError(s.t, s.Within(space, func() (err error) {
		l, err = net.Listen("tcp", fmt.Sprintf("0.0.0.0:%d", port))
		return err
	}))
	var mu sync.Mutex
	var held []net.Conn
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			mu.Lock()
			held = append(held, c)
			mu.Unlock()
		}
	}()
	return func() {
		_ = l.Close()
		mu.Lock()
		defer mu.Unlock()
		for _, c := range held {
			_ = c.Close()
		}
	}
}

// forwards makes the forwards of a space anew: those of the services, but for what is changed. An empty target leaves one out.
func (s *troubled) forwards(space string, changed map[string]string) {
	s.In(space, "nft", "add table ip inkfwd; delete table ip inkfwd; add table ip inkfwd; add chain ip inkfwd pre { type nat hook "+
		"prerouting "+
		"priority -110; }")
	for name, x := range stood {
		to := s.lanSide(name)
		if space == "front" {
			to = fmt.Sprintf("192.168.1.23:%d", x.port)
		}
		if other, ok := changed[name]; ok {
			to = other
		}
		if to != "" {
			s.In(space, "nft", fmt.Sprintf("add rule ip inkfwd pre iifname wan tcp dport %d dnat to %s", x.port, to))
		}
	}
}

// open returns the open finding that explains a service.
func (s *troubled) open(service string) (f diagnose.Finding, at time.Time, ok bool) {
	list, err := s.Faults(context.Background(), code, true)
	if err != nil {
		return f, at, false
	}
	for _, one := range list {
		if slices.Contains(one.Finding.Services, service) {
			return one.Finding, one.Opened, true
		}
	}
	return f, at, false
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

// told is what was said of one fault.
type told struct {
	fault, place  string
	opened, ended time.Duration
	first, last   diagnose.Finding
	want          []causes.Slug
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

// try makes a fault, waits for what is said of it, and mends it.
func (s *troubled) try(where string, f trouble) (x told) {
	s.t.Helper()
	x = told{fault: f.name, place: where, want: f.want}
	began := time.Now()
	mend := f.make(s)
	for time.Since(began) < 60*time.Second {
		got, _, ok := s.open(f.service())
		if ok && x.opened == 0 {
			x.opened, x.first = time.Since(began), got
		}
		if ok {
			x.last = got
		}
		if os.Getenv("INKPOST_FAULT") != "" && x.opened != 0 {
			s.t.Logf("%+v", got)
			list, _ := s.LAN(context.Background(), code, false)
			s.t.Logf("%+v", list)
		}
		if x.opened != 0 && (slices.Contains(f.want, got.Cause) || time.Since(began) > x.opened+8*time.Second) {
			break
		}
		time.Sleep(100 * time.Millisecond) // how often a person would look: nothing tells when nothing more will be said
	}
	mend()
	x.ended = s.awaitHealthy(90 * time.Second)
	return x
}

func (x told) String() string {
	return fmt.Sprintf("%-12s %-26s %-6s %5.1f s %5.1f s  %s %v %s", x.place, x.fault, x.right(), x.opened.Seconds(), x.ended.Seconds(),
		x.first.Sure, append([]causes.Slug{x.first.Cause}, x.first.Between...), lastWords(x))
}

func lastWords(x told) string {
	if x.last.Cause == x.first.Cause {
		return ""
	}
	return "then " + string(x.last.Cause)
}

// TestWhatIsSaidOfFaultsBehindRealNAT makes faults behind real kernel NAT, one after another, and holds what is said against what is so.
// INKPOST_TRUTH=full makes all of them, and INKPOST_FAULT=NAME one of them only.
func TestWhatIsSaidOfFaultsBehindRealNAT(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes minutes")
	}
	t.Parallel()
	full := os.Getenv("INKPOST_TRUTH") == "full"
	var mu sync.Mutex
	var all []told
	t.Run("sites", func(t *testing.T) {
		for name, v := range map[string]struct {
			behind spaces.Behind
			agent  bool
			only   func(trouble) bool
		}{
			"router":       {spaces.FarDirect, true, func(f trouble) bool { return !f.modem }},
			"router alone": {spaces.FarDirect, false, func(f trouble) bool { return !f.modem }},
			"modem":        {spaces.FarModem, true, func(f trouble) bool { return true }},
			"modem alone":  {spaces.FarModem, false, func(f trouble) bool { return true }},
		} {
			if !full && name != "router" && name != "modem" {
				continue
			}
			t.Run(name, func(t *testing.T) {
				t.Parallel()
				s := inTrouble(t, v.behind, v.agent)
				for _, f := range troubles {
					if only := os.Getenv("INKPOST_FAULT"); only != "" && f.name != only {
						continue
					}
					if !v.only(f) || !full && !(f.short && f.modem == (v.behind.Front != "")) {
						continue
					}
					if !v.agent {
						f.want = append(f.want, f.alone...)
					}
					x := s.try(name, f)
					t.Log(x)
					mu.Lock()
					all = append(all, x)
					mu.Unlock()
				}
			})
		}
	})
	if len(all) == 0 {
		t.Skip("only root may make network namespaces")
	}
	slices.SortFunc(all, func(a, b told) int { return strings.Compare(a.place+a.fault, b.place+b.fault) })
	counts := map[string]int{}
	for _, x := range all {
		counts[x.right()]++
		if full {
			fmt.Println(x)
		}
		require.NotEmpty(t, x.first.Cause, "%s: nothing was said of it", x.fault)
		require.Less(t, x.opened, 45*time.Second, x.fault)
	}
	t.Logf("of %d faults: %v", len(all), counts)
	require.LessOrEqual(t, counts["wrong"]+counts["later"], len(all)/20, "more than one of twenty is told wrongly: %v", all)
}
