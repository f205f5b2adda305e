package source_test

import (
	"context"
	"errors"
	"net"
	"net/netip"
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
