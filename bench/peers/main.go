// Command peers measures Ink Post's name server beside NSD, BIND and Knot: the same client, the same zone, one worker each,
// one after the other in one run. It prints figures and their ratios.
//
//	go run ./bench/peers            everything, about five minutes
//	go run ./bench/peers answers    questions a second, and processor time each
//	go run ./bench/peers updates    durable DNS UPDATEs a second
//	go run ./bench/peers announcements
package main

import (
	"context"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"runtime/pprof"
	"slices"
	"strconv"
	"time"
)

// rig is what all measurements share.
type rig struct {
	ctx     context.Context
	dir     string
	seconds int // of one measurement
	rounds  int // of all of them; the median counts
}

func main() {
	seconds := flag.Int("seconds", 5, "length of one measurement")
	profile := flag.String("profile", "", "write a processor profile of Ink Post to this file")
	rounds := flag.Int("rounds", 3, "how often each is made; the median counts")
	flag.Parse()
	if *profile != "" {
		f, err := os.Create(*profile)
		if err == nil {
			err = pprof.StartCPUProfile(f)
		}
		if err != nil {
			fmt.Fprintln(os.Stderr, "peers:", err)
			os.Exit(1)
		}
		defer pprof.StopCPUProfile()
	}
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
	defer stop()
	if err := run(ctx, *seconds, *rounds, flag.Args()); err != nil {
		fmt.Fprintln(os.Stderr, "peers:", err)
		os.Exit(1)
	}
}

func run(ctx context.Context, seconds, rounds int, parts []string) error {
	if len(parts) == 2 && parts[0] == "one-by-one" { // this program as its own client
		port, err := strconv.Atoi(parts[1])
		if err != nil {
			return err
		}
		o, err := rig{ctx: ctx, seconds: seconds}.oneByOne(port)
		fmt.Println(o.rate)
		return err
	}
	for _, program := range []string{"dnsperf", "nsd", "named", "knotd"} {
		if _, err := exec.LookPath(program); err != nil {
			return fmt.Errorf("%s is not installed: make bench", program)
		}
	}
	dir, err := os.MkdirTemp("", "inkpost-peers-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	if err := os.Chmod(dir, 0o777); err != nil {
		return err
	}
	r := rig{ctx: ctx, dir: dir, seconds: seconds, rounds: rounds}
	wanted := func(part string) bool { return len(parts) == 0 || slices.Contains(parts, part) }
	for _, m := range []struct {
		name    string
		measure func(rig) error
	}{{"answers", answers}, {"updates", updates}, {"announcements", announcements}} {
		if !wanted(m.name) {
			continue
		}
		began := time.Now()
		if err := m.measure(r); err != nil {
			return fmt.Errorf("%s: %w", m.name, err)
		}
		fmt.Printf("(%s took %s)\n\n", m.name, time.Since(began).Round(time.Second))
	}
	return nil
}

func (r rig) write(name, content string) (string, error) {
	path := filepath.Join(r.dir, name)
	if err := os.MkdirAll(filepath.Dir(path), 0o777); err != nil {
		return "", err
	}
	_ = os.Chmod(filepath.Dir(path), 0o777)
	return path, os.WriteFile(path, []byte(content), 0o666)
}

func median(list []float64) float64 {
	slices.Sort(list)
	return list[len(list)/2]
}
