// Scale runs the real service with many thousands of services on record, and prints how late probes are, what they cost, and
// how many a second it makes at most beside a bare loop of connects in the same run.
package main

import (
	"bufio"
	"context"
	"errors"
	"flag"
	"fmt"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"runtime"
	"runtime/pprof"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"inkpost.example/inkpost/bench/figures"
	"inkpost.example/inkpost/bench/stocked"
	"inkpost.example/inkpost/internal/core/ledger"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/daemon"
	"inkpost.example/inkpost/internal/store/cluster"
)

// Each site has as many services, on these ports; every address of 127.64.0.0/10 answers on them.
const (
	perSite   = 10
	firstPort = 21001
)

func main() {
	sizes := flag.String("sizes", "10000,30000,100000", "how many services, one run each")
	warm := flag.Duration("warm", 75*time.Second, "before measuring: each is probed for the first time meanwhile")
	measure := flag.Duration("measure", 60*time.Second, "how long to measure")
	peak := flag.Int("peak", 60000, "how many services, each every second, to find the most that is made; 0 leaves it out")
	failing := flag.Int("failing", 0, "share of services, in percent, that go silent when the measuring begins; 5 at most")
	profile := flag.String("profile", "", "a file for a processor profile, without the warming up; with .heap beside it")
	listen := flag.Bool("listen", false, "")
	flag.Parse()
	if *listen {
		answer()
		return
	}
	if *failing < 0 || *failing > mostFailing {
		fmt.Fprintf(os.Stderr, "-failing is 0 to %d\n", mostFailing)
		os.Exit(2)
	}
	if err := run(*sizes, *warm, *measure, *peak, *failing, *profile); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

// answer accepts connections in a process of its own, so that it does not count.
func answer() {
	for i := range perSite {
		l, err := net.Listen("tcp4", fmt.Sprintf("0.0.0.0:%d", firstPort+i))
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		go func() {
			for {
				c, err := l.Accept()
				if err != nil {
					continue
				}
				go func() { // until the other side leaves: whoever is cut off at once may take it for a refusal
					_, _ = c.Read(make([]byte, 1))
					_ = c.Close()
				}()
			}
		}()
	}
	fmt.Println("ready")
	lines := bufio.NewScanner(os.Stdin)
	for lines.Scan() {
		share, _ := strconv.Atoi(lines.Text())
		silence(share)
		fmt.Println("silent")
	}
}

// mostFailing is the largest share of services that can be had silent, in percent.
const mostFailing = 5

// silence has the kernel drop what is sent to the last port at a share of the addresses: a filter of nftables, for root.
func silence(share int) {
	_ = exec.Command("nft", "delete", "table", "ip", "inkscale").Run()
	if share == 0 {
		return
	}
	// Of ten services a site the last one, at a share of the sites: their addresses' last octets are even over 256.
	rule := fmt.Sprintf("add table ip inkscale; add chain ip inkscale in { type filter hook input priority 0; }; "+
		"add rule ip inkscale in tcp dport %d ip daddr & 0.0.0.255 < 0.0.0.%d drop", firstPort+perSite-1, 256*share*perSite/100)
	if out, err := exec.Command("nft", rule).CombinedOutput(); err != nil {
		fmt.Fprintln(os.Stderr, "nft:", err, string(out))
		os.Exit(1)
	}
}

func run(sizes string, warm, measure time.Duration, peak, failing int, profile string) error {
	ctx := context.Background()
	dir, err := os.MkdirTemp("", "inkpost-scale-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	c, err := cluster.Start(ctx, cluster.Options{Dir: dir})
	if err != nil {
		return err
	}
	defer c.Stop()
	other := exec.Command(os.Args[0], "-listen")
	in, err := other.StdinPipe()
	if err != nil {
		return err
	}
	out, err := other.StdoutPipe()
	if err != nil {
		return err
	}
	other.Stderr = os.Stderr
	if err := other.Start(); err != nil {
		return err
	}
	defer func() { _, _ = fmt.Fprintln(in, 0); _ = in.Close(); _ = other.Wait() }()
	said := bufio.NewScanner(out)
	if !said.Scan() {
		return errors.New("the process that answers has not begun")
	}
	begin := func(share int) { // the silence of a share of services
		_, _ = fmt.Fprintln(in, share)
		said.Scan()
	}
	var list []int
	for _, s := range strings.Split(sizes, ",") {
		n, err := strconv.Atoi(s)
		if err != nil {
			return err
		}
		list = append(list, n)
	}
	fmt.Printf("%d processors, files of the database with fsync\n", runtime.NumCPU())
	for _, n := range list {
		if err := paced(ctx, c, n, warm, measure, failing, begin, profiled(profile)); err != nil {
			return err
		}
	}
	if peak > 0 {
		return atMost(ctx, c, peak, profiled(profile))
	}
	return nil
}

// profiled returns what begins a profile, and what that returns ends it; nothing without a file.
func profiled(file string) func() func() {
	return func() func() {
		if file == "" {
			return func() {}
		}
		f, err := os.Create(file)
		if err == nil {
			err = pprof.StartCPUProfile(f)
		}
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
		}
		return func() {
			pprof.StopCPUProfile()
			_ = f.Close()
			if heap, err := os.Create(file + ".heap"); err == nil {
				runtime.GC()
				_ = pprof.WriteHeapProfile(heap)
				_ = heap.Close()
			}
		}
	}
}

// start runs the service with n services on record, each at an interval.
func start(ctx context.Context, c *cluster.Cluster, n, seconds int) (*daemon.Daemon, error) {
	url, err := stocked.Database(ctx, c, fmt.Sprintf("scale%d_%d", n, seconds),
		append(stocked.Sites((n+perSite-1)/perSite), stocked.Services(perSite, firstPort, seconds, probe.ExpectReachable))...)
	if err != nil {
		return nil, err
	}
	_ = os.WriteFile("/proc/self/clear_refs", []byte("5"), 0) // VmHWM begins anew: what filled the database is not the server's
	return daemon.Start(ctx, daemon.Options{Database: url, HTTP: "127.0.0.1:0", DNS: "127.0.0.1:0", ShortestInterval: time.Second,
		Policy: stocked.Policy})
}

// rounds counts what was probed, and what came of those that were not as they should be.
func rounds(d *daemon.Daemon) (n uint64, wrong map[probe.Outcome]uint64) {
	wrong = map[probe.Outcome]uint64{}
	for k, c := range d.Engine().ProbeCounts().Outcomes {
		n += c
		if k.Outcome != probe.Opened {
			wrong[k.Outcome] += c
		}
	}
	return n, wrong
}

// resident is what is in memory, in MB: VmRSS now, or VmHWM at most so far (/proc/self/status).
func resident(field string) (mb float64) {
	doc, _ := os.ReadFile("/proc/self/status")
	for _, line := range strings.Split(string(doc), "\n") {
		if f := strings.Fields(line); len(f) > 1 && f[0] == field+":" {
			kb, _ := strconv.ParseFloat(f[1], 64)
			mb = kb / 1024
		}
	}
	return mb
}

// segments counts the TCP packets that this machine has sent (/proc/net/snmp).
func segments() uint64 {
	doc, _ := os.ReadFile("/proc/net/snmp")
	for _, line := range strings.Split(string(doc), "\n") {
		if f := strings.Fields(line); len(f) > 11 && f[0] == "Tcp:" && f[1] != "RtoAlgorithm" {
			n, _ := strconv.ParseUint(f[11], 10, 64)
			return n
		}
	}
	return 0
}

// paced probes n services once a minute.
func paced(ctx context.Context, c *cluster.Cluster, n int, warm, measure time.Duration, failing int, begin func(int),
	profile func() func()) error {
	began := time.Now()
	d, err := start(ctx, c, n, 60)
	if err != nil {
		return err
	}
	defer d.Stop()
	up := time.Since(began)
	time.Sleep(warm)
	before := d.Engine().ProbeCounts()
	count, _ := rounds(d)
	packets := segments()
	if failing > 0 {
		begin(failing)
		defer begin(0)
	}
	end := profile()
	spent, at, most := figures.Processor(), time.Now(), 0.0
	for time.Since(at) < measure {
		time.Sleep(time.Second)
		most = max(most, resident("VmRSS"))
	}
	end()
	now := d.Engine().ProbeCounts()
	after, sent := now.Lags, segments()-packets
	lags := ledger.LagCounts{}
	for i := range lags.Classes {
		lags.Classes[i] = after.Classes[i] - before.Lags.Classes[i]
	}
	total, wrong := rounds(d)
	took := time.Since(at)
	p99, known := lags.Quantile(0.99)
	words := "≤ " + p99.String()
	if !known {
		words = "above " + ledger.LagBounds[len(ledger.LagBounds)-1].String()
	}
	used := figures.Processor() - spent
	share := 100 * used.Seconds() / took.Seconds()
	fmt.Printf("%7d services at 60 s: up after %4.1f s; %6.0f rounds/s, lag p99 %s (goal 1 s), mean %s; at most %.0f MB resident "+
		"(goal 250 for 100,000); %.1f %% of one processor, %.0f µs a round; not as they should be: %v\n",
		n, up.Seconds(), float64(total-count)/took.Seconds(), words,
		((after.Sum - before.Lags.Sum) / time.Duration(max(1, total-count))).Round(time.Microsecond), most,
		share, float64(used.Microseconds())/float64(max(1, total-count)), wrong)
	if failing == 0 {
		what := fmt.Sprintf("%d services at 60 s: ", n)
		goalMB, goalShare := 0.0, 0.0
		if n == 100_000 {
			goalMB, goalShare = 250, 50
		}
		figures.AtMost("probing", what+"memory", most, "MB", goalMB, "")
		figures.Plain("probing", what+"memory, at most since the server began", resident("VmHWM"), "MB", "")
		figures.AtMost("probing", what+"of one processor", share, "%", goalShare, "")
		figures.AtMost("probing", what+"lag of probes, p99, at most", p99.Seconds(), "s", 1, "")
		figures.Plain("probing", what+"until the server is up", up.Seconds(), "s", "")
	}
	if failing > 0 {
		limited := now.Limited - before.Limited
		fmt.Printf("        %d %% of them silent from the beginning on: %d packets with a hop limit, of %d TCP packets sent: %.1f %% "+
			"(goal 5); "+
			"%d services unreachable at the end\n", failing, limited, sent, 100*float64(limited)/float64(max(1, sent)),
			now.States[probe.StateUnreachable])
	}
	return nil
}

// atMost finds how many rounds a second are made when more are due than can be, and how many a bare loop of connects makes.
func atMost(ctx context.Context, c *cluster.Cluster, n int, profile func() func()) error {
	var ratios, rates []float64
	for round := range 3 {
		bare := connects(n, 8*time.Second)
		d, err := start(ctx, c, n+perSite*round, 1)
		if err != nil {
			return err
		}
		before, _ := rounds(d)
		for before < uint64(2*n) { // the first rounds are no steady load: each finds out a state that is told and written down
			time.Sleep(100 * time.Millisecond)
			before, _ = rounds(d)
		}
		at, spent, end := time.Now(), figures.Processor(), profile()
		time.Sleep(8 * time.Second)
		end()
		after, wrong := rounds(d)
		made := float64(after-before) / time.Since(at).Seconds()
		each := float64((figures.Processor() - spent).Microseconds()) / float64(after-before)
		d.Stop()
		fmt.Printf("at most: %6.0f rounds/s recorded, %.0f µs of processor time each, beside %6.0f connects/s of a bare loop: %.2f x "+
			"(goal 0.8); not as they should be: %v\n", made, each, bare, made/bare, wrong)
		ratios, rates = append(ratios, made/bare), append(rates, bare)
	}
	slices.Sort(ratios)
	slices.Sort(rates)
	figures.AtLeast("probing", "probes at most, recorded, beside a bare loop of connects", ratios[1], "x", 0.8,
		fmt.Sprintf("%.0f connects/s", rates[1]))
	return nil
}

// connects is the bare loop: the standard dialer, nothing else.
func connects(n int, long time.Duration) float64 {
	var done atomic.Int64
	var wg sync.WaitGroup
	until := time.Now().Add(long)
	first := netip.MustParseAddr("127.64.0.2").As4()
	for worker := range 256 {
		wg.Go(func() {
			dialer := net.Dialer{Timeout: 3 * time.Second, KeepAlive: -1}
			for i := worker; time.Now().Before(until); i += 256 {
				site := uint32(i/perSite) % uint32(n/perSite)
				at := netip.AddrFrom4([4]byte{first[0], first[1] + byte(site>>16), byte(site >> 8), byte(site) | 2})
				c, err := dialer.Dial("tcp", netip.AddrPortFrom(at, uint16(firstPort+i%perSite)).String())
				if err != nil {
					continue
				}
				_ = c.(*net.TCPConn).SetLinger(0)
				_ = c.Close()
				done.Add(1)
			}
		})
	}
	wg.Wait()
	return float64(done.Load()) / long.Seconds()
}
