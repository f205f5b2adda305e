package guest_test

import (
	"context"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/lab/peer"
)

// A service over both families is probed over both, behind a real kernel's IPv6 firewall.
func TestAServiceIsReachedByAForwardAndByAPinhole(t *testing.T) {
	t.Parallel()
	p := withRecorder(t, "--lab-public", "2001:db8::/32")
	for space, commands := range map[string]string{
		"out": "ip addr add 2001:db8:ff::1/64 dev wan nodad; ip -6 route add 2001:db8:7::/64 via 2001:db8:ff::2",
		"router": "sysctl -qw net.ipv6.conf.all.forwarding=1; ip addr add 2001:db8:ff::2/64 dev wan nodad; ip addr add " +
			"2001:db8:7::1/64 dev lan nodad; ip -6 route add default via 2001:db8:ff::1",
		"lan":      "ip addr add 2001:db8:7::2/64 dev lan0 nodad",
		"recorder": "ip addr add 2001:db8:7::beef/64 dev eth0 nodad; ip -6 route add default via 2001:db8:7::1",
	} {
		p.In(space, "sh", "-c", commands)
	}
	p.In("router", "nft", "add table ip6 wall; add chain ip6 wall in { type filter hook forward priority 0; policy accept; }; add "+
		"rule ip6 wall in iifname wan ct state new drop")
	key, err := p.AddRouterKey(t.Context(), code, "main", "IPv6", mustPrefix("2001:db8::/32"))
	require.NoError(t, err)
	client := http.Client{Transport: &http.Transport{DialContext: p.Dial("lan")}, Timeout: 5 * time.Second}
	reply, err := client.Get(api + "/announce/" + key.Secret + "?ipv6=2001:db8:7::2")
	require.NoError(t, err)
	require.NoError(t, reply.Body.Close())
	require.Equal(t, 200, reply.StatusCode)

	stop := p.stand("recorder", peer.Peer{Kind: probe.KindSSH, Name: "shell"}, "[::]:8022") // both families
	p.Forward(8022, "192.168.7.40:8022")
	_, err = p.AddService(t.Context(), code, contract.ServiceInput{Name: "shell", Device: "recorder", Kind: "ssh", External: "8022",
		Interval: 10, Reach: "both"})
	require.NoError(t, err)
	ways := func() string {
		s, err := p.Service(context.Background(), code, "shell")
		if err != nil {
			return err.Error()
		}
		words := string(s.State)
		for _, w := range s.Ways {
			words += " " + string(w.Way) + " " + string(w.Outcome)
		}
		return words
	}
	is := func(want string) {
		t.Helper()
		got := ""
		require.Eventually(t, func() bool { got = ways(); return got == want }, 60*time.Second, 100*time.Millisecond, "it is %s", &got)
	}
	is("impaired forward answered pinhole silent")
	var f contract.Fault
	require.Eventually(t, func() bool {
		var ok bool
		f, ok = p.fault("pinhole-missing")
		return ok && strings.Contains(strings.Join(f.Finding.Evidence, "; "), "from inside")
	}, 40*time.Second, 100*time.Millisecond)
	require.Contains(t, f.Finding.Next, "allow TCP port 8022 to 2001:db8:7::beef (recorder)")
	require.Contains(t, strings.Join(f.Finding.Evidence, "; "), "over IPv4, by the forward at 1.2.3.7:8022, it is answered")
	cards, err := p.Cards(t.Context(), code, "shell")
	require.NoError(t, err)
	require.Len(t, cards, 2)
	require.Equal(t, "IPv6 pinhole", cards[1].Title)
	require.Contains(t, cards[1].Fields, site.Field{Label: "Destination address", Value: "2001:db8:7::beef"})
	require.Contains(t, cards[1].Note, "::0:0:0:beef")

	p.In("router", "nft", "insert rule ip6 wall in ip6 daddr 2001:db8:7::beef tcp dport 8022 accept")
	is("reachable forward answered pinhole answered")
	stop()
	p.stand("recorder", peer.Peer{Kind: probe.KindSSH, Name: "shell"}, "192.168.7.40:8022") // an IPv4 address only
	is("impaired forward answered pinhole refused")
	require.Eventually(t, func() bool {
		f, ok := p.fault("ipv4-only")
		return ok && strings.Contains(f.Finding.Summary, "nothing listens at the IPv6 address")
	}, 20*time.Second, 100*time.Millisecond)

	_, err = p.EditService(t.Context(), code, "shell", map[string]any{"reach": "pinhole"})
	require.NoError(t, err)
	is("unreachable pinhole refused")
	_, err = p.EditService(t.Context(), code, "shell", map[string]any{"reach": "tunnel"})
	require.ErrorContains(t, err, "it is forward (IPv4), pinhole")
}
