package agent_test

import (
	"net"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/agent"
	"inkpost.example/inkpost/internal/agent/lantest"
	"inkpost.example/inkpost/internal/testbed"
)

func TestTheSystemsNetworkIsALAN(t *testing.T) {
	l, err := net.Listen("tcp", "127.192.7.20:0")
	require.NoError(t, err)
	defer l.Close()
	closed, err := net.Listen("tcp", "127.192.7.20:0")
	require.NoError(t, err)
	require.NoError(t, closed.Close())
	lantest.Check(t, agent.SystemLAN{Lab: testbed.LANs}, lantest.Site{Open: portOf(l), Refused: portOf(closed),
		Elsewhere: netip.MustParseAddr("198.51.100.7")})
}

func portOf(l net.Listener) netip.AddrPort { return l.Addr().(*net.TCPAddr).AddrPort() }
