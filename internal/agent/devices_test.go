package agent_test

import (
	"context"
	"net"
	"net/netip"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/agent"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/testbed"
)

func TestAnAgentLooksAtTheDevicesOnRecordAndAtNothingElse(t *testing.T) {
	s := testbed.Start(t, nil)
	code := site(t, s)
	for name, d := range map[string]contract.DeviceInput{"recorder": {MAC: "02:00:5e:07:00:01", Address: "192.168.7.20"},
		"desk": {MAC: "02:00:5e:07:00:02", Address: "192.168.7.21", Reserved: true},
		"oven": {Address: "192.168.7.22"}} {
		d.Name = name
		_, err := s.Client.AddDevice(t.Context(), "KET-07", d)
		require.NoError(t, err)
	}
	for name, in := range map[string]contract.ServiceInput{"page": {Device: "recorder", External: "8443", Internal: "443"},
		"shell": {Device: "desk", External: "8022", Internal: "22"},
		"calls": {Device: "oven", External: "5060"}} {
		in.Name, in.Interval, in.InUse = name, 3600, true
		_, err := s.Client.AddService(t.Context(), "KET-07", in)
		require.NoError(t, err)
	}
	table := []agent.Neighbour{{Address: netip.MustParseAddr("192.168.7.20"), MAC: "02:00:5e:07:00:01"},
		{Address: netip.MustParseAddr("192.168.7.33"), MAC: "02:00:5e:07:00:02"},
		{Address: netip.MustParseAddr("2001:db8:7::20"), MAC: "02:00:5e:07:00:01"},
		{Address: netip.MustParseAddr("fe80::20"), MAC: "02:00:5e:07:00:01"},
		{Address: netip.MustParseAddr("192.168.7.99"), MAC: "02:00:5e:99:00:01"}}
	for i := range 10000 { // somebody fills the table
		table = append(table, agent.Neighbour{Address: netip.AddrFrom4([4]byte{10, 9, byte(i >> 8), byte(i)}), MAC: "02:00:5e:99:00:02"})
	}
	tried := make(chan string, 100000)
	outside, err := net.Listen("tcp", "127.111.5.8:8443") // the router loops traffic back
	require.NoError(t, err)
	defer outside.Close()
	w := &way{}
	w.move("127.111.5.8")
	start(t, agent.Options{Server: s.URL, Code: code, StateDir: filepath.Join(t.TempDir(), "agent"), Dial: w.dial,
		LAN: lan{table: table, ports: map[string]string{"192.168.7.20:443/tcp": "open", "192.168.7.33:22/tcp": "refused"}, tried: tried}})
	awaitAddress(t, s, "127.111.5.8")
	seen, err := s.Client.LAN(t.Context(), "KET-07", true)
	require.NoError(t, err)
	by := map[string]contract.DeviceReport{}
	for _, g := range seen {
		by[g.Device] = g
	}
	require.Len(t, by, 3)
	require.True(t, by["recorder"].Present)
	require.Equal(t, "open", by["recorder"].Ports[0].State)
	require.Equal(t, "answers", by["recorder"].Ports[0].Loop)
	require.Equal(t, "refused", by["desk"].Ports[0].Loop)
	require.Equal(t, "2001:db8:7::20", by["recorder"].IPv6)
	require.Equal(t, "192.168.7.33", by["desk"].Found, "it has another LAN address")
	require.Equal(t, "refused", by["desk"].Ports[0].State)
	require.False(t, by["oven"].Present)
	close(tried)
	for at := range tried {
		require.Contains(t, []string{"192.168.7.20:443/tcp", "192.168.7.33:22/tcp", "192.168.7.21:22/tcp", "192.168.7.22:5060/tcp"}, at)
	}
	await(t, "the drift is a fault", func() bool {
		list, err := s.Client.Faults(context.Background(), "KET-07", true)
		for _, f := range list {
			if err == nil && f.Finding.Cause == "device-drifted" && strings.Contains(f.Finding.Next, "02:00:5e:07:00:02") &&
				strings.Contains(strings.Join(f.Finding.Evidence, " "), "is recorded as reserved") {
				return true
			}
		}
		return false
	})
	require.Equal(t, []string{"open ports below 1024"}, standing(t, s).Cannot)
}

func TestAHostnameFollowsADevicesIPv6Address(t *testing.T) {
	s := testbed.Start(t, func(o *testbed.Options) {
		o.Policy.StandIns = append(o.Policy.StandIns, netip.MustParsePrefix("2001:db8::/32"))
	})
	code := site(t, s)
	_, err := s.Client.AddZone(t.Context(), contract.ZoneInput{Apex: "isles.example", Servers: []string{"ns.isles.example=127.0.0.1"}})
	require.NoError(t, err)
	_, err = s.Client.AddDevice(t.Context(), "KET-07",
		contract.DeviceInput{Name: "recorder", MAC: "02:00:5e:07:00:01", Address: "192.168.7.20"})
	require.NoError(t, err)
	_, err = s.Client.AddHostname(t.Context(), contract.HostnameInput{Name: "recorder.isles.example", Site: "KET-07", Device: "recorder"})
	require.NoError(t, err)
	_, err = s.Client.AddHostname(t.Context(), contract.HostnameInput{Name: "other.isles.example", Site: "KET-07", Device: "nosuch"})
	require.ErrorContains(t, err, "nosuch")
	var six atomic.Value
	six.Store("2001:db8:7::20")
	w := &way{}
	w.move("127.111.5.23")
	start(t, agent.Options{Server: s.URL, Code: code, StateDir: filepath.Join(t.TempDir(), "agent"), Dial: w.dial, LAN: prefixed{&six}})
	is := func(want string) func() bool {
		return func() bool {
			_, err := s.Client.LAN(context.Background(), "KET-07", true)
			h, err2 := s.Client.Hostname(context.Background(), "recorder.isles.example")
			return err == nil && err2 == nil && h.IPv4.String() == "127.111.5.23" && h.IPv6.String() == want
		}
	}
	await(t, "the AAAA is the device's own", is("2001:db8:7::20"))
	six.Store("2001:db8:8::20")
	await(t, "the provider gives another prefix", is("2001:db8:8::20"))
	require.Error(t, s.Client.RemoveDevice(t.Context(), "KET-07", "recorder"), "a hostname names it")
}
