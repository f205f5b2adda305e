package distance_test

import (
	"context"
	"encoding/json"
	"fmt"
	"net"
	"net/netip"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/testbed/spaces"
	"inkpost.example/inkpost/internal/wire/distance"
)

// The test runs itself in other network namespaces, to measure from there or to listen there.
const (
	measures = "DISTANCE_MEASURE" // transport address:port
	listens  = "DISTANCE_LISTEN"  // transport :port
)

func TestMain(m *testing.M) {
	switch {
	case os.Getenv(measures) != "":
		transport, target, _ := strings.Cut(os.Getenv(measures), " ")
		r := distance.Request{Transport: probe.Transport(transport), Target: netip.MustParseAddrPort(target),
			Payload: []byte("who is there"),
			Limits:  []int{1, 2, 3, 4, 5, 6}}
		list, err := distance.Measure(context.Background(), r)
		if err != nil {
			panic(err)
		}
		_ = json.NewEncoder(os.Stdout).Encode(list)
	case os.Getenv(listens) != "":
		listen(strings.Fields(os.Getenv(listens)))
	default:
		os.Exit(m.Run())
	}
}

func listen(what []string) {
	if what[0] == "udp" {
		c, err := net.ListenPacket("udp", what[1])
		if err != nil {
			panic(err)
		}
		for {
			buffer := make([]byte, 100)
			if n, from, err := c.ReadFrom(buffer); err == nil {
				_, _ = c.WriteTo(buffer[:n], from)
			}
		}
	}
	l, err := net.Listen("tcp", what[1])
	if err != nil {
		panic(err)
	}
	for {
		if c, err := l.Accept(); err == nil {
			_ = c.Close()
		}
	}
}

// measure measures a port of the site from outside.
func measure(t *testing.T, s *spaces.Site, transport string, port int) []probe.HopAnswer {
	t.Helper()
	exe, err := os.Executable()
	require.NoError(t, err)
	out := s.In("out", "env", fmt.Sprintf("%s=%s %s:%d", measures, transport, s.WAN, port), exe)
	var list []probe.HopAnswer
	require.NoError(t, json.Unmarshal([]byte(out), &list), out)
	return list
}

// furnish builds a site with a device that listens on ports 7001 and 7002.
func furnish(t *testing.T, b spaces.Behind) *spaces.Site {
	t.Helper()
	s := spaces.NewSite(spaces.New(t, "miniupnpd"), b)
	exe, err := os.Executable()
	require.NoError(t, err)
	s.Plug("device", "02:00:5e:07:00:03", "192.168.7.30/24")
	for _, what := range []string{"tcp :7001", "tcp :7002", "udp :7001"} {
		s.Serve("device", "env", listens+"="+what, exe)
	}
	for _, port := range []int{7001, 7002, 7003} {
		s.Forward(port, fmt.Sprintf("192.168.7.30:%d", port))
	}
	return s
}

// calibrate measures the port that works until it does.
func calibrate(t *testing.T, s *spaces.Site) probe.Calibration {
	t.Helper()
	for range 50 {
		if c, ok := probe.Calibrate(measure(t, s, "tcp", 7001), netip.MustParseAddr(s.WAN), time.Now()); ok {
			return c
		}
	}
	require.Fail(t, "the device's port never opened")
	return probe.Calibration{}
}

func TestHopLimitsTellWhereAPortEnds(t *testing.T) {
	t.Parallel()
	rules := func(table, chain, rule string) []string {
		return []string{"nft", fmt.Sprintf("add table ip %s; add chain ip %s c { type filter hook %s priority -5; }; add rule ip %s c %s",
			table, table, chain, table, rule)}
	}
	drop := []string{"nft", "delete table ip fault"}
	for name, b := range map[string]spaces.Behind{"a router": spaces.FarDirect, "a modem and a router": spaces.FarModem} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s := furnish(t, b)
			at := netip.MustParseAddr(s.WAN)
			c := calibrate(t, s)
			nats := 1
			if b.Front != "" {
				nats = 2
			}
			require.Equal(t, 3, c.Router, "core and near stand before it")
			require.Equal(t, nats, c.NATs)
			require.Equal(t, 3+nats, c.Open)
			require.True(t, c.Before)
			read := func() probe.Distance { return probe.Read(measure(t, s, "tcp", 7002), at, c) }
			require.Equal(t, probe.AnsweredBehind, read())
			list := measure(t, s, "tcp", 7002)
			require.Equal(t, "time exceeded (ICMP 11/0) from "+s.WAN, list[2].ICMP.String(), "%v", list)

			s.In("device", rules("fault", "input", "tcp dport 7002 drop")...)
			require.Equal(t, probe.PassedOn, read(), "the device's firewall")
			s.In("device", drop...)
			s.In("near", rules("fault", "forward", "tcp dport 7002 drop")...)
			require.Equal(t, probe.EndsAtFirst, read(), "the last piece of the provider's network")
			s.In("near", drop...)
			s.In("core", rules("fault", "forward", "tcp dport 7002 drop")...)
			require.Equal(t, probe.EndsBefore, read(), "the provider's core")
			s.In("core", drop...)
			require.Equal(t, probe.RefusedBehind, probe.Read(measure(t, s, "tcp", 7003), at, c), "nothing listens there")
			edge := "router"
			if b.Front != "" {
				edge = "front"
			}
			require.Equal(t, probe.RefusedByFirst, probe.Read(measure(t, s, "tcp", 7009), at, c), "no forward: the edge refuses by itself")
			s.In(edge, rules("fault", "input", "tcp dport 7009 drop")...)
			require.Equal(t, probe.EndsAtFirst, probe.Read(measure(t, s, "tcp", 7009), at, c), "no forward")
			s.In(edge, drop...)
			if b.Front != "" {
				s.In("front", "nft", "add rule ip inkfwd pre iifname wan tcp dport 7009 dnat to 192.168.1.23:7009")
				require.Equal(t, probe.RefusedByInner, probe.Read(measure(t, s, "tcp", 7009), at, c))
				s.In("router", rules("fault", "input", "tcp dport 7009 drop")...)
				require.Equal(t, probe.EndsAtInner, probe.Read(measure(t, s, "tcp", 7009), at, c),
					"the modem passes it on, the router does not")
			}
			s.In("device", "ip", "link", "set", "eth0", "down")
			list = measure(t, s, "tcp", 7002)
			require.Equal(t, probe.PassedOn, probe.Read(list, at, c), "the router looks for the device: %v", list)
		})
	}
}

func TestHopLimitsOverUDP(t *testing.T) {
	t.Parallel()
	s := furnish(t, spaces.FarDirect)
	c := calibrate(t, s)
	s.In("router", "nft", "add rule ip inkfwd pre iifname wan udp dport 7001 dnat to 192.168.7.30:7001; add rule ip inkfwd pre iifname "+
		"wan "+
		"udp dport 7004 dnat to 192.168.7.30:7004")
	at := netip.MustParseAddr(s.WAN)
	require.Equal(t, probe.AnsweredBehind, probe.Read(measure(t, s, "udp", 7001), at, c))
	require.Equal(t, probe.RefusedBehind, probe.Read(measure(t, s, "udp", 7004), at, c), "nothing listens there")
	require.Equal(t, probe.RefusedByFirst, probe.Read(measure(t, s, "udp", 7005), at, c), "no forward")
	s.In("device", "nft", "add table ip fault; add chain ip fault c { type filter hook input priority 0; }; add rule ip fault c udp "+
		"dport 7004 drop")
	require.Equal(t, probe.PassedOn, probe.Read(measure(t, s, "udp", 7004), at, c))
}
