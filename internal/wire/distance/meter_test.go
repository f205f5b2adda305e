package distance

import (
	"net"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/probe"
)

func TestAMeterMeasuresOnceAndForgetsAddressesThatAreNotUsed(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	taken := make(chan struct{}, 100)
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			_ = c.Close()
			taken <- struct{}{}
		}
	}()
	at := l.Addr().(*net.TCPAddr).AddrPort()
	m := NewMeter(netip.Addr{})
	now := time.Now()
	m.Works(t.Context(), at, now)
	m.Close()
	n := len(taken)
	require.LessOrEqual(t, n, atOnce, "one search of a port that is one hop away")
	m = NewMeter(netip.Addr{})
	m.known[at.Addr()] = &entry{calibration: probe.Calibration{Open: 1, At: now}}
	m.Works(t.Context(), at, now.Add(time.Hour))
	m.Works(t.Context(), at, now.Add(2*time.Hour))
	require.False(t, m.known[at.Addr()].busy, "it is known")

	closed := netip.AddrPortFrom(at.Addr(), 1)
	s := m.Examine(t.Context(), probe.TCP, closed, now.Add(2*time.Hour))
	require.Empty(t, s.Problem)
	require.Equal(t, []probe.HopAnswer{{Limit: 1, Reply: probe.HopReset}, {Limit: 2, Reply: probe.HopReset}}, s.Answers)
	require.Equal(t, probe.DistanceUnknown, s.Distance, "nothing stands in between that says how far it is")

	for i := range 3 * leastRoom {
		m.mu.Lock()
		m.entry(netip.AddrFrom4([4]byte{198, 51, byte(i >> 8), byte(i)}), now.Add(time.Duration(i)*time.Hour))
		m.mu.Unlock()
	}
	require.LessOrEqual(t, len(m.known), leastRoom, "what was not asked for within a day is dropped")
}

// What failed a moment after it worked has another port of its address beside it to compare with.
func TestThePortThatWorkedLastIsNotComparedWithItself(t *testing.T) {
	now := time.Now()
	page, shell := netip.MustParseAddrPort("203.0.113.7:8443"), netip.MustParseAddrPort("203.0.113.7:8022")
	var g entry
	require.False(t, g.beside(page, now).IsValid())
	g.note(working{page, now})
	require.False(t, g.beside(page, now).IsValid())
	g.note(working{shell, now})
	g.note(working{shell, now.Add(time.Minute)})
	require.Equal(t, page, g.beside(shell, now.Add(time.Minute)))
	require.Equal(t, shell, g.beside(page, now.Add(time.Minute)))
	require.False(t, g.beside(shell, now.Add(trustFor)).IsValid(), "that was too long ago")
}
