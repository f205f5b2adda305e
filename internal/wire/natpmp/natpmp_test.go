package natpmp

import (
	"context"
	"net"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func dial(ctx context.Context, network, address string) (net.Conn, error) {
	return (&net.Dialer{}).DialContext(ctx, network, address)
}

// gateway answers each request with the packets given, one after the other.
func gateway(t *testing.T, answers ...[]byte) netip.AddrPort {
	t.Helper()
	conn, err := net.ListenUDP("udp4", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
	require.NoError(t, err)
	t.Cleanup(func() { _ = conn.Close() })
	go func() {
		buffer := make([]byte, 64)
		for {
			n, from, err := conn.ReadFromUDPAddrPort(buffer)
			if err != nil {
				return
			}
			if n == 2 && buffer[0] == 0 && buffer[1] == 0 {
				for _, a := range answers {
					_, _ = conn.WriteToUDPAddrPort(a, from)
				}
			}
		}
	}()
	return conn.LocalAddr().(*net.UDPAddr).AddrPort()
}

func TestExternal(t *testing.T) {
	right := []byte{0, 128, 0, 0, 0, 0, 1, 44, 198, 51, 100, 7}
	a, epoch, err := External(t.Context(), dial, gateway(t, []byte{}, []byte{0, 128}, []byte{1, 128, 0, 0, 0, 0, 0, 1, 9, 9, 9, 9},
		[]byte{0, 129, 0, 0, 0, 0, 0, 1, 9, 9, 9, 9}, append(right, 0), right))
	require.NoError(t, err)
	require.Equal(t, "198.51.100.7", a.String(), "what is no answer is passed over")
	require.Equal(t, uint32(300), epoch)

	_, _, err = External(t.Context(), dial, gateway(t, []byte{0, 128, 0, 3, 0, 0, 0, 1, 0, 0, 0, 0}))
	require.ErrorContains(t, err, "the router has no address itself yet")
	_, _, err = External(t.Context(), dial, gateway(t, []byte{0, 128, 0, 77}))
	require.ErrorContains(t, err, "result 77")

	ctx, cancel := context.WithTimeout(t.Context(), 200*time.Millisecond)
	defer cancel()
	_, _, err = External(ctx, dial, gateway(t))
	require.ErrorIs(t, err, ErrNoAnswer)
}

func FuzzRead(f *testing.F) {
	f.Add([]byte{0, 128, 0, 0, 0, 0, 1, 44, 198, 51, 100, 7})
	f.Fuzz(func(t *testing.T, packet []byte) {
		if a, _, err := Read(packet); err == nil {
			require.True(t, a.Is4())
			require.Len(t, packet, 12)
		}
	})
}
