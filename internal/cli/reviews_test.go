package cli_test

import (
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/lab/peer"
	"inkpost.example/inkpost/internal/testbed"
)

func TestProvingFromTheCommandLine(t *testing.T) {
	s := testbed.Start(t, nil)
	term := open(t, s)
	l, err := peer.Peer{Kind: probe.KindSSH, Name: "still"}.Listen(probe.TCP, netip.MustParseAddrPort("127.110.8.1:8022"))
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })
	term.ok("site", "add", "DIS-01", "--name", "Distillery")
	term.ok("link", "add", "DIS-01", "main", "--mode", "static", "--ipv4", "127.110.8.1")
	term.ok("device", "add", "DIS-01", "still", "--lan-address", "192.168.1.20")
	term.ok("device", "add", "DIS-01", "router", "--lan-address", "192.168.1.1", "--router")
	term.ok("service", "add", "DIS-01", "shell", "--device", "still", "--external", "8022", "--internal", "22", "--kind", "ssh",
		"--open-until", "48h")
	require.Contains(t, term.ok("service", "add", "DIS-01", "gate", "--device", "still", "--external", "51820", "--kind", "wireguard",
		"--option", "peer_key=Br+02tLiXfcAZp/RKiC8CEiE6i6024vhbQdroCtgQUE="),
		"add a peer with the public key")
	story := term.ok("probe", "DIS-01", "shell")
	for _, part := range []string{"127.110.8.1:8022 TCP: answered", "accepts a connection", "host key", "SSH-2.0-Go"} {
		require.Contains(t, story, part)
	}
	card := term.ok("service", "card", "DIS-01", "shell")
	for _, part := range []string{"Port forward, in the router", "External port     8022", "Internal address  192.168.1.20",
		"Internal port     22", "Reserve 192.168.1.20 for still"} {
		require.Contains(t, card, part)
	}
	require.Eventually(t, func() bool {
		out, _, _ := term.run("", "service", "show", "DIS-01", "shell")
		return strings.Contains(out, "pinned    key SHA256:")
	}, 5*time.Second, 100*time.Millisecond)
	require.Contains(t, term.ok("service", "show", "DIS-01", "shell"), "open for 48 h")
	require.Contains(t, term.ok("service", "pin", "DIS-01", "shell"), "is recognised by: key SHA256:")
	_, errs, code := term.run("", "service", "pin", "DIS-01", "gate")
	require.Equal(t, 1, code)
	require.Contains(t, errs, "has not shown any yet")
	term.ok("service", "edit", "DIS-01", "shell", "--open-until", "none", "--every", "600")
	require.Contains(t, term.ok("service", "show", "DIS-01", "shell"), "expected  reachable")
	require.Contains(t, term.ok("service", "availability", "DIS-01", "shell"), "1 y")
	require.Contains(t, term.ok("service", "availability", "DIS-01", "shell", "--days", "2"), time.Now().UTC().Format(time.DateOnly))
	require.Contains(t, term.ok("vantage", "invite", "harbour", "--note", "Harbour office"),
		"inkpost vantage run --server "+s.URL+" --code ")
	require.Contains(t, term.ok("vantage", "list"), "invited")
	require.Contains(t, term.ok("vantage", "remove", "harbour", "--yes"), "is removed")
	_, errs, code = term.run("", "site", "review", "DIS-01", "--consent", "no")
	require.Equal(t, 1, code)
	require.Contains(t, errs, "who has agreed")
}
