package pcp

import (
	"context"
	"encoding/binary"
	"net"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/require"
)

func dial(ctx context.Context, network, address string) (net.Conn, error) {
	return (&net.Dialer{}).DialContext(ctx, network, address)
}

// granted is a gateway's answer to a request.
func granted(request []byte, external string) []byte {
	out := append([]byte(nil), request...)
	out[1] |= 0x80
	out[3] = 0
	clear(out[8:24])
	binary.BigEndian.PutUint32(out[8:], 77)
	a := netip.MustParseAddr(external).As16()
	copy(out[header+20:], a[:])
	return out
}

func gateway(t *testing.T, address string, answers func(request []byte) [][]byte) netip.AddrPort {
	t.Helper()
	conn, err := net.ListenPacket("udp", address)
	require.NoError(t, err)
	t.Cleanup(func() { _ = conn.Close() })
	go func() {
		buffer := make([]byte, 1100)
		for {
			n, from, err := conn.ReadFrom(buffer)
			if err != nil {
				return
			}
			if n < header+mapBody || buffer[0] != version {
				continue
			}
			for _, a := range answers(buffer[:n]) {
				_, _ = conn.WriteTo(a, from)
			}
		}
	}()
	return conn.LocalAddr().(*net.UDPAddr).AddrPort()
}

func external(t *testing.T, network string, at netip.AddrPort) (netip.Addr, error) {
	t.Helper()
	m, err := Open(t.Context(), dial, network, at)
	require.NoError(t, err)
	defer m.Close()
	a, _, err := m.External(t.Context())
	return a, err
}

func TestExternal(t *testing.T) {
	type asked struct {
		lifetime uint32
		tie      nonce
	}
	seen := make(chan asked, 8)
	at := gateway(t, "127.0.0.1:0", func(r []byte) [][]byte {
		seen <- asked{binary.BigEndian.Uint32(r[4:]), nonce(r[header : header+12])}
		wrongNonce, wrongPort, echo := granted(r, "9.9.9.9"), granted(r, "9.9.9.9"), append([]byte(nil), r...)
		wrongNonce[header]++
		wrongPort[header+17]++
		return [][]byte{{}, {2}, echo, wrongNonce, wrongPort, granted(r, "9.9.9.9")[:40], granted(r, "::ffff:198.51.100.7")}
	})
	m, err := Open(t.Context(), dial, "udp4", at)
	require.NoError(t, err)
	var requests []asked
	for range 2 {
		a, epoch, err := m.External(t.Context())
		require.NoError(t, err)
		require.Equal(t, "198.51.100.7", a.String(), "what is not the answer to the question is passed over")
		require.Equal(t, uint32(77), epoch)
		requests = append(requests, <-seen)
	}
	require.Equal(t, requests[0], requests[1], "asking again renews the mapping that is there")
	require.Equal(t, uint32(lifetime), requests[0].lifetime)
	m.Close()
	require.Equal(t, asked{0, requests[0].tie}, <-seen, "the mapping is taken back at the end")

	six := gateway(t, "[::1]:0", func(r []byte) [][]byte { return [][]byte{granted(r, "2001:db8::7")} })
	a, err := external(t, "udp6", six)
	require.NoError(t, err)
	require.Equal(t, "2001:db8::7", a.String())

	for code, words := range map[byte]string{1: "another version", 2: "not allowed", AddressMismatch: "another device translates",
		99: "result 99"} {
		refusing := gateway(t, "127.0.0.1:0", func(r []byte) [][]byte { out := granted(r, "0.0.0.0"); out[3] = code; return [][]byte{out} })
		_, err = external(t, "udp4", refusing)
		require.ErrorContains(t, err, words)
	}
	older := gateway(t, "127.0.0.1:0", func([]byte) [][]byte { return [][]byte{{0, 0x81, 0, 1}} })
	_, err = external(t, "udp4", older)
	require.Equal(t, Refused{1}, err, "a gateway that speaks NAT-PMP only")
}

func FuzzRead(f *testing.F) {
	own := netip.MustParseAddrPort("192.168.7.20:4000")
	f.Add(granted(request(own.Addr(), nonce{}, wanted{protocol: protocolUDP, inside: own.Port(), seconds: lifetime}), "198.51.100.7"))
	f.Fuzz(func(t *testing.T, packet []byte) {
		if got, err := read(packet, wanted{protocol: protocolUDP, inside: own.Port()}, nonce{}); err == nil {
			a := got.external.Addr()
			require.True(t, a.IsValid())
		}
	})
}
