package source_test

import (
	"context"
	"errors"
	"net"
	"net/netip"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/agent/source"
	"inkpost.example/inkpost/internal/agent/source/sourcetest"
	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/wire/natpmp"
	"inkpost.example/inkpost/internal/wire/stun"
)

var both = wan.Pair{IPv4: netip.MustParseAddr("127.0.0.1"), IPv6: netip.MustParseAddr("::1")}

func system(ctx context.Context, network, address string) (net.Conn, error) {
	return (&net.Dialer{}).DialContext(ctx, network, address)
}

func TestObserved(t *testing.T) {
	sourcetest.Check(t, wan.SourceObserved, both,
		source.Observed{Ask: func(_ context.Context, six bool) (netip.Addr, error) { return both.Of(six), nil }},
		source.Observed{Ask: func(context.Context, bool) (netip.Addr, error) { return netip.Addr{}, errors.New("the server is away") }})
	// An answer of the other family is none of this one.
	swapped := source.Observed{Ask: func(_ context.Context, six bool) (netip.Addr, error) { return both.Of(!six), nil }}.Learn(t.Context())
	require.False(t, swapped[0].Addresses.Known())
}

func TestSTUN(t *testing.T) {
	t.Parallel()
	servers := [2]string{}
	for i, at := range []string{"127.0.0.1:0", "[::1]:0"} {
		r, err := stun.Listen(at)
		require.NoError(t, err)
		go func() { _ = r.Serve(t.Context()) }()
		servers[i] = r.Addr()
	}
	// The name of one server with an address of each family.
	named := source.Network{Dial: func(ctx context.Context, network, _ string) (net.Conn, error) {
		if network == "udp6" {
			return system(ctx, network, servers[1])
		}
		return system(ctx, network, servers[0])
	}}
	deaf, err := net.ListenPacket("udp4", "127.0.0.1:0")
	require.NoError(t, err)
	defer deaf.Close()
	sourcetest.Check(t, wan.SourceSTUN, both, source.STUN{Network: named, Servers: []string{"stun.saltmarsh.example:3478"}},
		source.STUN{Network: source.Network{Dial: system}, Servers: []string{deaf.LocalAddr().String()}})
}

// gateway answers NAT-PMP where the source asks: the port is fixed, and so the test has addresses of its own.
func gateway(t *testing.T, at string, answer []byte) *source.Gateway {
	t.Helper()
	conn, err := net.ListenPacket("udp4", net.JoinHostPort(at, "5351"))
	require.NoError(t, err)
	t.Cleanup(func() { _ = conn.Close() })
	go func() {
		buffer := make([]byte, 1100)
		for {
			n, from, err := conn.ReadFrom(buffer)
			if err != nil {
				return
			}
			if n == 2 && answer != nil {
				_, _ = conn.WriteTo(answer, from)
			}
		}
	}()
	router := netip.MustParseAddr(at)
	return source.NewGateway(source.Network{Dial: system, Gateway: router, Search: netip.AddrPortFrom(router, 1900)})
}

func TestGateway(t *testing.T) {
	t.Parallel()
	works := gateway(t, "127.210.0.1", []byte{0, 128, 0, 0, 0, 0, 0, 9, 198, 51, 100, 7})
	sourcetest.Check(t, wan.SourceGateway, wan.Pair{IPv4: netip.MustParseAddr("198.51.100.7")}, works, gateway(t, "127.210.0.2", nil))
	require.Equal(t, "NAT-PMP", works.Learn(t.Context())[0].Via, "it says which protocol answered")
	off := gateway(t, "127.210.0.3", []byte{0, 128, 0, 2, 0, 0, 0, 0}).Learn(t.Context())
	require.Contains(t, off[0].Problem, "switched off in the router")
	unspecified := gateway(t, "127.210.0.4", []byte{0, 128, 0, 0, 0, 0, 0, 9, 0, 0, 0, 0}).Learn(t.Context())
	require.Equal(t, netip.IPv4Unspecified(), unspecified[0].Addresses.IPv4, "to judge what is said is the core's")
	require.Equal(t, 5350, natpmp.NoticePort)
}

func TestInterface(t *testing.T) {
	sourcetest.Check(t, wan.SourceInterface, both, source.Interface{Name: "lo"}, source.Interface{Name: "nosuch0"})
}

func TestFixed(t *testing.T) {
	sourcetest.Check(t, wan.SourceFixed, both, source.Fixed{Addresses: both}, source.Fixed{})
}

func TestTheKernelIsHeard(t *testing.T) {
	ctx, stop := context.WithCancel(t.Context())
	ended := make(chan error, 1)
	go func() { ended <- source.Changes(ctx, func() {}) }()
	select {
	case err := <-ended:
		t.Fatalf("it ended by itself: %v", err)
	case <-time.After(100 * time.Millisecond):
	}
	stop()
	require.NoError(t, <-ended)
}

// counting is a router that keeps what it is asked.
func counting(t *testing.T, at string, answer func(request []byte) []byte) (*source.Gateway, func() [][]byte) {
	t.Helper()
	conn, err := net.ListenPacket("udp4", net.JoinHostPort(at, "5351"))
	require.NoError(t, err)
	t.Cleanup(func() { _ = conn.Close() })
	var mu sync.Mutex
	var asked [][]byte
	go func() {
		buffer := make([]byte, 1100)
		for {
			n, from, err := conn.ReadFrom(buffer)
			if err != nil {
				return
			}
			request := append([]byte(nil), buffer[:n]...)
			mu.Lock()
			asked = append(asked, request)
			mu.Unlock()
			if reply := answer(request); reply != nil {
				_, _ = conn.WriteTo(reply, from)
			}
		}
	}()
	router := netip.MustParseAddr(at)
	return source.NewGateway(source.Network{Dial: system, Gateway: router, Search: netip.AddrPortFrom(router, 1900)}), func() [][]byte {
		mu.Lock()
		defer mu.Unlock()
		return append([][]byte(nil), asked...)
	}
}

func TestARouterThatSpeaksPCPOnlyKeepsOneMapping(t *testing.T) {
	t.Parallel()
	g, asked := counting(t, "127.210.0.5", func(request []byte) []byte {
		if len(request) != 60 {
			return nil // it knows nothing of NAT-PMP
		}
		out := append([]byte(nil), request...)
		out[1] |= 0x80
		clear(out[8:24])
		a := netip.MustParseAddr("::ffff:198.51.100.7").As16()
		copy(out[44:], a[:])
		return out
	})
	for range 3 {
		r := g.Learn(t.Context())
		require.Equal(t, "PCP", r[0].Via)
		require.Equal(t, "198.51.100.7", r[0].Addresses.String())
	}
	g.Close()
	require.Eventually(t, func() bool { return len(asked()) > 0 && asked()[len(asked())-1][7] == 0 }, time.Second, time.Millisecond)
	var maps [][]byte
	for _, request := range asked() {
		if len(request) == 60 {
			maps = append(maps, request)
		}
	}
	require.Len(t, maps, 4, "made, renewed twice, taken back")
	for _, m := range maps {
		require.Equal(t, maps[0][24:36], m[24:36], "it is the same mapping")
	}
	require.Zero(t, maps[3][4]|maps[3][5]|maps[3][6]|maps[3][7], "a lifetime of 0")
}

func TestARouterThatAnswersIsNotAskedByOtherWaysAgain(t *testing.T) {
	t.Parallel()
	g, asked := counting(t, "127.210.0.6", func(request []byte) []byte {
		if len(request) == 2 {
			return []byte{0, 128, 0, 3, 0, 0, 0, 9} // it has no address itself yet
		}
		return nil
	})
	require.Contains(t, g.Learn(t.Context())[0].Problem, "no address itself yet")
	kinds := func() (short, long int) {
		for _, request := range asked() {
			if len(request) == 2 {
				short++
			} else if request[6]|request[7] != 0 { // what is taken back asks nothing
				long++
			}
		}
		return short, long
	}
	short, long := kinds()
	for range 3 {
		require.Contains(t, g.Learn(t.Context())[0].Problem, "no address itself yet")
	}
	again, same := kinds()
	require.Equal(t, short+3, again, "one question each time, although it gives no address")
	require.Equal(t, long, same, "and none of another kind")
}

func TestWhatARouterRepeatsIsNoNews(t *testing.T) {
	t.Parallel()
	external := atomic.Pointer[[4]byte]{}
	external.Store(&[4]byte{198, 51, 100, 7})
	told := func() []byte { return append([]byte{0, 128, 0, 0, 0, 0, 0, 9}, external.Load()[:]...) }
	g, _ := counting(t, "127.210.0.7", func([]byte) []byte { return told() })
	require.Empty(t, g.Learn(t.Context())[0].Problem)
	news := make(chan netip.Addr, 10)
	go g.Notices(t.Context(), func(another netip.Addr) { news <- another })
	router, err := net.ListenPacket("udp4", "127.210.0.7:0")
	require.NoError(t, err)
	defer router.Close()
	tell := func() {
		_, _ = router.WriteTo(told(), &net.UDPAddr{IP: net.IPv4(127, 210, 0, 7), Port: natpmp.NoticePort})
	}
	for range 5 {
		tell()
	}
	external.Store(&[4]byte{198, 51, 100, 8})
	require.Eventually(t, func() bool { tell(); return len(news) > 0 }, 5*time.Second, 50*time.Millisecond)
	require.Equal(t, "198.51.100.8", (<-news).String(), "the first news is the other address")
	require.Empty(t, news, "and it is news once")
}
