package bench

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"

	"inkpost.example/inkpost/bench/figures"
	"inkpost.example/inkpost/internal/agent"
	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/testbed"
)

// agentsOf has this program run agents instead of benchmarks: it names the server, and codes come on the standard input.
const agentsOf = "INKPOST_BENCH_AGENTS"

func TestMain(m *testing.M) {
	if server := os.Getenv(agentsOf); server != "" {
		runAgents(server)
		return
	}
	testbed.Main(m)
}

// runAgents runs an agent for each line of the standard input, "code address folder", until that ends.
func runAgents(server string) {
	ctx, stop := context.WithCancel(context.Background())
	var under sync.WaitGroup
	for lines := bufio.NewScanner(os.Stdin); lines.Scan(); {
		var code, address, dir string
		if _, err := fmt.Sscan(lines.Text(), &code, &address, &dir); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		from := netip.MustParseAddr(address)
		dial := func(ctx context.Context, network, to string) (net.Conn, error) { // each from an address of its own
			d := net.Dialer{LocalAddr: &net.TCPAddr{IP: from.AsSlice()}}
			if strings.HasPrefix(network, "udp") {
				d.LocalAddr = &net.UDPAddr{IP: from.AsSlice()}
			}
			return d.DialContext(ctx, network, to)
		}
		under.Go(func() {
			if err := agent.Run(ctx, agent.Options{Server: server, Code: code, StateDir: dir, Sources: []string{"stun"}, Dial: dial,
				Log: slog.New(slog.NewTextHandler(io.Discard, nil))}); err != nil {
				fmt.Fprintln(os.Stderr, err)
			}
		})
	}
	stop()
	under.Wait()
}

func onlyError[T any](_ T, err error) error { return err }

// BenchmarkIdleAgents has 10,000 agents, as they are in the field, connected to one server, nothing of which changes.
func BenchmarkIdleAgents(b *testing.B) {
	const agents, processes = 10_000, 2
	p, s := alone(b, "--stun", "127.0.0.1:0")
	s.Record(b, "FIRST-1")
	dir := b.TempDir()
	var ins []io.WriteCloser
	for range processes {
		cmd := exec.Command(os.Args[0])
		cmd.Env = append(os.Environ(), agentsOf+"="+p.URL)
		cmd.Stderr = os.Stderr
		in, err := cmd.StdinPipe()
		require.NoError(b, err)
		require.NoError(b, cmd.Start())
		b.Cleanup(func() {
			_ = in.Close()
			_ = cmd.Process.Kill()
			_ = cmd.Wait()
		})
		ins = append(ins, in)
	}
	var done, refused atomic.Int64
	var g errgroup.Group
	g.SetLimit(6)
	var mu sync.Mutex
	_, before := p.Spent(b)
	for i := range agents {
		g.Go(func() error {
			ctx, code := b.Context(), fmt.Sprintf("SITE-%d", i)
			var inv contract.Invitation
			for _, edit := range []func() error{
				func() error { return onlyError(s.Client.AddSite(ctx, contract.SiteInput{Code: code, Name: code})) },
				func() error { return onlyError(s.Client.AddLink(ctx, code, contract.LinkInput{Label: "main"})) },
				func() (err error) { inv, err = s.Client.Invite(ctx, code, "main"); return err },
			} {
				err := edit()
				for ; client.IsStatus(err, http.StatusServiceUnavailable); err = edit() {
					refused.Add(1)
					time.Sleep(time.Second)
				}
				if err != nil {
					return err
				}
			}
			if n := done.Add(1); n%2000 == 0 {
				b.Logf("%d agents after %s; %d edits refused, and tried again", n, b.Elapsed().Round(time.Second), refused.Load())
			}
			mu.Lock()
			defer mu.Unlock()
			_, err := fmt.Fprintln(ins[i%processes], inv.Code, at(i, 0), filepath.Join(dir, code))
			return err
		})
	}
	require.NoError(b, g.Wait())
	time.Sleep(45 * time.Second) // three checks of each
	const while = 60 * time.Second
	empty, _ := p.Spent(b)
	time.Sleep(while)
	spent, resident := p.Spent(b)
	silent := 0
	for i := 0; i < agents; i += 97 {
		site, err := s.Client.Site(b.Context(), fmt.Sprintf("SITE-%d", i))
		require.NoError(b, err)
		if l := site.Links[0]; l.IPv4.String() != at(i, 0) || time.Since(l.Heard) > 25*time.Second {
			silent++
			b.Logf("%s: %s, heard %s ago", site.Code, l.IPv4, time.Since(l.Heard))
		}
	}
	require.Zero(b, silent, "all of them are heard")
	share := 100 * (spent - empty).Seconds() / while.Seconds()
	b.Logf("%d agents: %.0f MB resident (%.0f before), %.0f %% of one processor", agents, float64(resident)/1e6, float64(before)/1e6, share)
	figures.Plain("agents", "10,000 idle agents on one server: memory", float64(resident)/1e6, "MB", fmt.Sprintf("%.0f MB without",
		float64(before)/1e6))
	figures.Plain("agents", "10,000 idle agents on one server: of one processor", share, "%", "")
	b.ReportMetric(0, "ns/op")
}
