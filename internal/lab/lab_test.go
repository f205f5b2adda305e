package lab

import (
	"bufio"
	"context"
	"errors"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"os"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/wire/speak"
)

// Tests of other packages may have a world of their own on this machine at the same time: this one's addresses are elsewhere.
func init() {
	pools["Kettle Cable"], pools["Islenet Fibre"], pools["Gannet Mobile"] = netip.MustParsePrefix("127.115.0.0/16"),
		netip.MustParsePrefix("127.116.0.0/16"), netip.MustParsePrefix("127.117.0.0/16")
}

func world(t *testing.T) *World {
	t.Helper()
	lan := func(n byte, port uint16) netip.AddrPort {
		return netip.AddrPortFrom(netip.AddrFrom4([4]byte{127, 202, 1, n}), port)
	}
	w, err := New([]SiteSpec{{Code: "KET-07", Links: []LinkSpec{{Label: "main", Provider: "Kettle Cable",
		Address: netip.MustParseAddr("127.115.77.7")}},
		Services: []ServiceSpec{
			{Name: "page", Device: "recorder", LAN: lan(20, 10443), External: 8443, Kind: probe.KindHTTP, Forwarded: true},
			{Name: "shell", Device: "desk", LAN: lan(21, 10022), External: 8022, Kind: probe.KindSSH, Forwarded: true},
			{Name: "data", Device: "recorder", LAN: lan(20, 9000), External: 9000, Kind: probe.KindTCP, Forwarded: true},
			{Name: "setup", Device: "recorder", LAN: lan(20, 10080), External: 8080, Kind: probe.KindHTTP},
		}}}, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	t.Cleanup(w.Close)
	return w
}

func knock(t *testing.T, at netip.AddrPort, deadline time.Duration) probe.Outcome {
	return probe.Judge(speak.To(t.Context(), speak.Request{Kind: probe.KindTCP, Transport: probe.TCP, Target: at,
		Deadline: deadline}).Result, "")
}

func outcome(t *testing.T, w *World, port uint16) probe.Outcome {
	t.Helper()
	at := netip.MustParseAddr(w.World().Sites[0].Links[0].Address)
	return knock(t, netip.AddrPortFrom(at, port), 200*time.Millisecond)
}

func TestDevicesReallyAnswerThroughTheRouter(t *testing.T) {
	w := world(t)
	r, err := http.Get("http://127.115.77.7:8443/")
	require.NoError(t, err)
	defer r.Body.Close()
	page, err := io.ReadAll(r.Body)
	require.NoError(t, err)
	require.Contains(t, string(page), "KET-07 recorder page")

	c, err := net.Dial("tcp", "127.115.77.7:9000")
	require.NoError(t, err)
	defer c.Close()
	line, err := bufio.NewReader(c).ReadString('\n')
	require.NoError(t, err)
	require.Equal(t, "KET-07 recorder data ready\r\n", line)

	var key ssh.PublicKey
	_, err = ssh.Dial("tcp", "127.115.77.7:8022", &ssh.ClientConfig{User: "technician", Auth: []ssh.AuthMethod{ssh.Password("x")},
		HostKeyCallback: func(_ string, _ net.Addr, k ssh.PublicKey) error { key = k; return nil }})
	require.ErrorContains(t, err, "unable to authenticate")
	require.Equal(t, "ssh-ed25519", key.Type())
	require.Len(t, w.World().Sites[0].Services, 4)
}

func TestForwardsAndDevicesGiveEachOutcome(t *testing.T) {
	w := world(t)
	require.Equal(t, probe.Opened, outcome(t, w, 8443))
	require.Equal(t, probe.Silent, outcome(t, w, 8080), "not forwarded: dropped")
	require.NoError(t, w.SetForward("ket-07", "page", false))
	require.Equal(t, probe.Silent, outcome(t, w, 8443))
	require.NoError(t, w.SetForward("KET-07", "page", true))
	require.Equal(t, probe.Opened, outcome(t, w, 8443))
	require.NoError(t, w.SetService("KET-07", "page", false))
	require.Equal(t, probe.Refused, outcome(t, w, 8443))
	require.NoError(t, w.SetForward("KET-07", "page", false))
	require.Equal(t, probe.Silent, outcome(t, w, 8443), "what is not forwarded is dropped, whatever the device does")
	require.NoError(t, w.SetForward("KET-07", "page", true))
	require.NoError(t, w.SetService("KET-07", "page", true))
	require.Equal(t, probe.Opened, outcome(t, w, 8443))
	require.ErrorContains(t, w.SetService("KET-07", "oven", true), `no service of KET-07 in the lab "oven"`)
	require.ErrorContains(t, w.SetForward("OYS-03", "page", true), `no site in the lab "OYS-03"`)
}

func TestRenumberingMovesEverythingAndSilencesTheOldAddress(t *testing.T) {
	w := world(t)
	kept, err := net.Dial("tcp", "127.115.77.7:9000")
	require.NoError(t, err)
	defer kept.Close()
	_, err = bufio.NewReader(kept).ReadString('\n')
	require.NoError(t, err)
	n, err := w.Renumber("KET-07", "main")
	require.NoError(t, err)
	require.Equal(t, "127.115.77.7", n.Old)
	require.NotEqual(t, n.Old, n.New)
	require.True(t, Public.Contains(netip.MustParseAddr(n.New)))
	require.Equal(t, probe.Opened, outcome(t, w, 8443))
	old := knock(t, netip.MustParseAddrPort("127.115.77.7:8443"), 200*time.Millisecond)
	require.Equal(t, probe.Silent, old, "nobody is at the old address")
	require.NoError(t, kept.SetReadDeadline(time.Now().Add(2*time.Second)))
	_, err = kept.Read(make([]byte, 1))
	require.Error(t, err)
	require.NotContains(t, err.Error(), "timeout", "connections over the old address end")
	_, err = w.Renumber("KET-07", "backup")
	require.ErrorContains(t, err, `no link of KET-07 in the lab "backup"`)
}

func TestOutboundLeavesFromTheWANAddressAndDoesNotLoopBack(t *testing.T) {
	w := world(t)
	l, err := net.Listen("tcp4", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	seen := make(chan net.Addr, 1)
	go func() {
		if c, err := l.Accept(); err == nil {
			seen <- c.RemoteAddr()
			_ = c.Close()
		}
	}()
	dial, err := w.Dial("KET-07", "main")
	require.NoError(t, err)
	c, err := dial(context.Background(), "tcp", l.Addr().String())
	require.NoError(t, err)
	defer c.Close()
	require.Equal(t, "127.115.77.7", (<-seen).(*net.TCPAddr).IP.String())
	_, err = dial(context.Background(), "tcp", "127.115.77.7:8443")
	require.ErrorIs(t, err, syscall.ECONNREFUSED, "the site's own address cannot be reached from inside")
}

func TestProviderGivesNoAddressTwice(t *testing.T) {
	p := newProvider("Kettle Cable", netip.MustParsePrefix("127.115.8.0/28"))
	got := map[netip.Addr]bool{}
	for range 15 {
		a, err := p.lease(netip.Addr{})
		require.NoError(t, err)
		require.False(t, got[a], a)
		got[a] = true
	}
	_, err := p.lease(netip.Addr{})
	require.ErrorContains(t, err, "is used up")
	p.release(netip.MustParseAddr("127.115.8.3"))
	a, err := p.lease(netip.MustParseAddr("127.115.8.3"))
	require.NoError(t, err)
	require.Equal(t, "127.115.8.3", a.String(), "a free address is given to whoever asks for it")
}

// Both ways of dropping look the same from outside, and give the port back.
func TestDroppedPortsAreSilentForEveryUser(t *testing.T) {
	for name, hold := range map[string]func(netip.AddrPort) (io.Closer, error){"filter": filteredPort, "full queue": fullPort} {
		t.Run(name, func(t *testing.T) {
			at := netip.MustParseAddrPort("127.115.78.1:8443")
			p, err := hold(at)
			if errors.Is(err, os.ErrPermission) {
				t.Skip("this kernel gives socket filters to root only; the full queue takes their place")
			}
			require.NoError(t, err)
			for range 5 {
				require.Equal(t, probe.Silent, knock(t, at, 100*time.Millisecond))
			}
			_, err = hold(at)
			require.Error(t, err, "the port is taken")
			require.NoError(t, p.Close())
			require.Equal(t, probe.Refused, knock(t, at, 100*time.Millisecond))
			l, err := net.Listen("tcp4", at.String())
			require.NoError(t, err, "and free again")
			require.NoError(t, l.Close())
		})
	}
}

// The line is cut while a connection over it is opened: it must not live on, or an outage would be reported through.
func TestAConnectionDoesNotOutliveTheCutOfItsLine(t *testing.T) {
	r := newRouter(&provider{}, slog.New(slog.DiscardHandler))
	opened, end := net.Pipe()
	defer end.Close()
	r.dark = true
	r.flow(opened, true)
	_, err := end.Read(make([]byte, 1))
	require.ErrorIs(t, err, io.EOF)
	require.Empty(t, r.flows)
}

// Whoever has a connection over a line that is cut hears nothing more, not even that it has ended.
func TestALineIsCutSilently(t *testing.T) {
	w := world(t)
	at := netip.AddrPortFrom(netip.MustParseAddr(w.World().Sites[0].Links[0].Address), 8022)
	c, err := net.Dial("tcp4", at.String())
	require.NoError(t, err)
	defer c.Close()
	_, err = c.Read(make([]byte, 1)) // of what an SSH server says first
	require.NoError(t, err)
	require.NoError(t, w.SetLink("KET-07", "main", false))
	require.NoError(t, c.SetReadDeadline(time.Now().Add(300*time.Millisecond)))
	_, err = io.Copy(io.Discard, c)
	require.ErrorIs(t, err, os.ErrDeadlineExceeded)
}
