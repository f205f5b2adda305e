package guest_test

import (
	"context"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/causes"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/lab/peer"
	"inkpost.example/inkpost/internal/testbed/spaces"
)

const recorderMAC = "02:00:5e:07:00:01"

// withRecorder is a site with a recorder on its LAN, which nobody there talks to, and a service of it that is forwarded.
func withRecorder(t *testing.T, flags ...string) *place {
	t.Helper()
	p := settle(t, spaces.Direct, flags...)
	p.Plug("recorder", recorderMAC, "192.168.7.40/24")
	p.work()
	_, err := p.AddDevice(t.Context(), code, contract.DeviceInput{Name: "recorder", Address: "192.168.7.40", MAC: recorderMAC})
	require.NoError(t, err)
	return p
}

func (p *place) sighting(device string) contract.DeviceReport {
	p.t.Helper()
	list, err := p.LAN(p.t.Context(), code, false)
	require.NoError(p.t, err)
	for _, s := range list {
		if s.Device == device {
			return s
		}
	}
	return contract.DeviceReport{}
}

func (p *place) fault(cause causes.Slug) (f contract.Fault, ok bool) {
	p.t.Helper()
	list, err := p.Faults(context.Background(), code, true)
	require.NoError(p.t, err)
	for _, f := range list {
		if f.Finding.Cause == cause {
			return f, true
		}
	}
	return f, false
}

func TestADeviceThatMovesOnASilentLANIsFoundByItsMAC(t *testing.T) {
	t.Parallel()
	p := withRecorder(t)
	p.stand("recorder", peer.Peer{Kind: probe.KindSSH, Name: "shell"}, "0.0.0.0:8022")
	p.Forward(8022, "192.168.7.40:8022")
	_, err := p.AddService(t.Context(), code, contract.ServiceInput{Name: "shell", Device: "recorder", Kind: "ssh", External: "8022",
		Interval: 10})
	require.NoError(t, err)
	require.Eventually(t, func() bool { return p.sighting("recorder").Present }, 20*time.Second, 100*time.Millisecond)
	require.Equal(t, recorderMAC, p.sighting("recorder").MAC)

	asked := p.Count("lan", "output", "ip daddr 192.168.7.0/24 udp dport 9")
	p.In("recorder", "sh", "-c", "ip addr flush dev eth0 scope global; ip addr add 192.168.7.177/24 dev eth0; ip route add "+
		"default via "+spaces.Router)
	began := time.Now()
	require.Eventually(t, func() bool {
		f, ok := p.fault("device-drifted")
		return ok && strings.Contains(f.Finding.Summary, "recorder is at 192.168.7.177 now")
	}, 60*time.Second, 100*time.Millisecond)
	took := time.Since(began)
	// The failure is seen at the next probe, ten seconds later at most.
	t.Logf("found %s after it moved, with %d questions", took.Round(100*time.Millisecond), asked().Packets)
	require.Less(t, took, 40*time.Second)
	require.LessOrEqual(t, asked().Packets, 300, "the LAN is asked once, and no more than that")

	// Another machine takes the address that the record has.
	p.Plug("printer", "02:00:5e:99:00:07", "192.168.7.40/24")
	require.Eventually(t, func() bool {
		_, err := p.LAN(context.Background(), code, true)
		f, ok := p.fault("device-drifted")
		return err == nil && ok && strings.Contains(strings.Join(f.Finding.Evidence, "; "),
			"another machine, 02:00:5e:99:00:07, has 192.168.7.40")
	}, 90*time.Second, 100*time.Millisecond)
	p.In("recorder", "ip", "link", "set", "eth0", "down")
	require.Eventually(t, func() bool {
		_, err := p.LAN(context.Background(), code, true)
		f, ok := p.fault("address-taken")
		return err == nil && ok && strings.Contains(f.Finding.Summary, "Another machine has 192.168.7.40, the address of recorder")
	}, 90*time.Second, 100*time.Millisecond)
}

func TestADevicesIPv6AddressIsLearnedAndFollowedWithoutAnybodysPing(t *testing.T) {
	t.Parallel()
	p := withRecorder(t, "--lab-public", "2001:db8::/32", "--watch-every", "20s")
	p.In("lan", "ip", "addr", "add", "2001:db8:7::2/64", "dev", "lan0", "nodad")
	p.In("recorder", "ip", "addr", "add", "2001:db8:7::beef/64", "dev", "eth0", "nodad")
	require.NoError(t, ignore(p.AddHostname(t.Context(),
		contract.HostnameInput{Name: "recorder.isles.saltmarsh.example", Site: code, Device: "recorder"})))
	is := func(want string) func() bool {
		return func() bool {
			h, err := p.Hostname(context.Background(), "recorder.isles.saltmarsh.example")
			return err == nil && h.IPv6.String() == want
		}
	}
	began := time.Now()
	require.Eventually(t, is("2001:db8:7::beef"), 30*time.Second, 100*time.Millisecond)
	t.Logf("learned in %s", time.Since(began).Round(100*time.Millisecond))

	p.In("recorder", "ip", "addr", "add", "2001:db8:7::cafe/64", "dev", "eth0", "nodad") // as privacy extensions do
	_, err := p.LAN(t.Context(), code, true)
	require.NoError(t, err)
	require.Equal(t, "2001:db8:7::beef", p.sighting("recorder").IPv6, "it does not flip to another that the device has, too")

	for space, dev := range map[string]string{"lan": "lan0", "recorder": "eth0"} { // the provider gives another prefix
		host := map[string]string{"lan": "2", "recorder": "beef"}[space]
		p.In(space, "sh", "-c", "ip -6 addr flush dev "+dev+" scope global; ip addr add 2001:db8:8::"+host+"/64 dev "+dev+" nodad")
	}
	began = time.Now()
	require.Eventually(t, is("2001:db8:8::beef"), time.Minute, 100*time.Millisecond)
	t.Logf("followed in %s", time.Since(began).Round(100*time.Millisecond))

	p.In("recorder", "ip", "-6", "addr", "flush", "dev", "eth0", "scope", "global")
	require.Eventually(t, func() bool {
		_, err := p.LAN(context.Background(), code, true)
		f, ok := p.fault("device-ipv6-lost")
		h, err2 := p.Hostname(context.Background(), "recorder.isles.saltmarsh.example")
		return err == nil && err2 == nil && ok && h.State == "stale" &&
			strings.Contains(f.Finding.Summary, "an IPv6 address that recorder no longer has")
	}, time.Minute, 100*time.Millisecond)
}

func ignore[T any](_ T, err error) error { return err }
