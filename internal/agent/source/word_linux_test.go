package source_test

import (
	"encoding/json"
	"errors"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/agent/source"
	"inkpost.example/inkpost/internal/testbed/spaces"
	"inkpost.example/inkpost/internal/wire/igd"
	"inkpost.example/inkpost/internal/wire/natpmp"
	"inkpost.example/inkpost/internal/wire/pcp"
)

const askedWord = "INKPOST_TEST_WORD"

// worded is what a machine on the LAN hears of its router, step by step.
type worded struct {
	Before, During, After source.Word
	Again                 bool // a second request for the port is refused as taken
	PMPTaken, IGDTaken    bool
	ByPMP, ByIGD          source.Word
}

// TestWordInside is run by the other test, inside a namespace.
func TestWordInside(t *testing.T) {
	file := os.Getenv(askedWord)
	if file == "" {
		t.Skip("run by the test of kernel NAT, in a namespace")
	}
	ctx, router := t.Context(), netip.MustParseAddr(spaces.Router)
	g := source.NewGateway(source.Network{Dial: system})
	defer g.Close()
	ports := []source.Port{{Transport: "tcp", External: 9443}, {Transport: "udp", External: 9444}}
	require.Eventually(t, func() bool { return g.Learn(ctx)[0].Problem == "" }, 20*time.Second, 100*time.Millisecond)
	var out worded
	out.Before = g.Word(ctx, ports)
	back, err := g.Borrow(ctx, ports[0], 7443, 2*time.Minute)
	require.NoError(t, err)
	out.During = g.Word(ctx, ports)
	_, err = g.Borrow(ctx, ports[0], 7444, 2*time.Minute)
	out.Again = errors.Is(err, source.ErrTaken)
	back()
	require.EventuallyWithT(t, func(c *assert.CollectT) {
		out.After = g.Word(ctx, ports)
		require.False(c, out.After.Ports[0].To.IsValid(), "a mapping is left: %+v", out.After)
	}, 5*time.Second, 50*time.Millisecond)

	at := netip.AddrPortFrom(router, natpmp.Port)
	require.NoError(t, natpmp.Map(ctx, system, at, "udp", 9444, 7445, time.Minute))
	out.ByPMP = g.Word(ctx, ports)
	_, err = pcp.Map(ctx, system, netip.AddrPortFrom(router, pcp.Port), "udp", 9444, 7446, time.Minute)
	out.PMPTaken = errors.Is(err, pcp.Refused{Code: pcp.CannotProvide})
	require.NoError(t, natpmp.Unmap(ctx, system, at, "udp", 7445))

	plug, err := igd.Find(ctx, netip.MustParseAddr(spaces.Machine), igd.Group)
	require.NoError(t, err)
	require.NoError(t, plug.Add(ctx, "tcp", 9443, netip.AddrPortFrom(netip.MustParseAddr(spaces.Machine), 7447), time.Minute))
	out.ByIGD = g.Word(ctx, ports)
	out.IGDTaken = errors.Is(natpmp.Map(ctx, system, at, "tcp", 9443, 7448, time.Minute), natpmp.ErrTaken)
	require.NoError(t, plug.Remove(ctx, "tcp", 9443))
	doc, err := json.Marshal(out)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, doc, 0o600))
}

func TestARealRouterTellsWhatItListsAndLendsAPort(t *testing.T) {
	t.Parallel()
	s := spaces.NewSite(spaces.New(t, "miniupnpd"), spaces.Direct)
	file := filepath.Join(t.TempDir(), "word")
	self, err := os.Executable()
	require.NoError(t, err)
	cmd := exec.Command("ip", "netns", "exec", s.Name("lan"), self, "-test.run", "^TestWordInside$")
	cmd.Env = append(os.Environ(), askedWord+"="+file)
	text, err := cmd.CombinedOutput()
	require.NoError(t, err, string(text))
	doc, err := os.ReadFile(file)
	require.NoError(t, err)
	var w worded
	require.NoError(t, json.Unmarshal(doc, &w))

	require.Equal(t, "Connected", w.Before.Line)
	require.Less(t, w.Before.Up, time.Minute, "the daemon has just begun")
	require.Len(t, w.Before.Ports, 2)
	require.False(t, w.Before.Ports[0].To.IsValid())
	require.Equal(t, spaces.Machine+":7443", w.During.Ports[0].To.String())
	require.Positive(t, w.During.Ports[0].Lease)
	require.True(t, w.Again)
	require.Equal(t, spaces.Machine+":7445", w.ByPMP.Ports[1].To.String())
	require.True(t, w.PMPTaken)
	require.Equal(t, spaces.Machine+":7447", w.ByIGD.Ports[0].To.String())
	require.Equal(t, "trial of a port", w.ByIGD.Ports[0].Description)
	require.True(t, w.IGDTaken)
}
