// Edits times one edit of each kind of resource on records of several sizes and beside a large zone, and how long 2,000 sites take to be
// put on record one by one, through the API of the real service.
package main

import (
	"context"
	"flag"
	"fmt"
	"os"
	"slices"
	"time"

	"inkpost.example/inkpost/bench/figures"
	"inkpost.example/inkpost/internal/store/cluster"
)

// Goals of the table that is printed.
const (
	goalP99   = 20 * time.Millisecond
	goalTimes = 2.0 // the slowest record beside the fastest
	goalMany  = 60 * time.Second
)

func main() {
	rounds := flag.Int("rounds", 300, "edits of each kind")
	many := flag.Int("many", 2000, "sites put on record one by one; 0 leaves it out")
	flag.Parse()
	if err := run(context.Background(), *rounds, *many); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

// setting is a record to edit on.
type setting struct {
	words          string
	sites, records int
}

var settings = []setting{
	{"10 sites", 10, 0},
	{"1,000 sites", 1000, 0},
	{"10,000 sites", 10_000, 0},
	{"250 sites, 50,000 records", 250, 50_000},
}

func run(ctx context.Context, rounds, many int) error {
	dir, err := os.MkdirTemp("", "inkpost-edits-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	c, err := cluster.Start(ctx, cluster.Options{Dir: dir})
	if err != nil {
		return err
	}
	defer c.Stop()
	took := map[string][]times{} // by kind, then by setting
	for _, at := range settings {
		s, err := start(ctx, c, at)
		if err != nil {
			return err
		}
		began := time.Now()
		for _, e := range edits {
			list, err := timed(ctx, s, e, rounds)
			if err != nil {
				s.stop(ctx)
				return fmt.Errorf("%s beside %s: %w", e.words, at.words, err)
			}
			took[e.words] = append(took[e.words], list)
		}
		s.stop(ctx)
		fmt.Printf("edits on %s took %s\n", at.words, time.Since(began).Round(time.Second))
	}
	report(took)
	if many == 0 {
		return nil
	}
	return putOnRecord(ctx, c, many)
}

// times are what edits took, and in turns with them commits of one row by the database alone; both sorted.
type times struct{ edits, commits []time.Duration }

// timed makes one kind of edit again and again.
func timed(ctx context.Context, s *service, e editKind, rounds int) (out times, err error) {
	for n := range rounds + 5 {
		began := time.Now()
		if err := s.commit(ctx, n); err != nil {
			return out, err
		}
		between := time.Now()
		if err := e.edit(ctx, s, n); err != nil {
			return out, err
		}
		if n >= 5 { // the first few find caches cold
			out.commits, out.edits = append(out.commits, between.Sub(began)), append(out.edits, time.Since(between))
		}
	}
	slices.Sort(out.edits)
	slices.Sort(out.commits)
	return out, nil
}

// report prints medians and 99th percentiles of each kind, and how far apart the medians are.
func report(took map[string][]times) {
	fmt.Printf("%-16s", "edit of")
	for _, at := range settings {
		fmt.Printf("%28s", at.words)
	}
	fmt.Printf("%10s\n", "apart")
	for _, e := range edits {
		fmt.Printf("%-16s", e.words)
		var least, most, slowest, commit time.Duration
		late := false
		for i, of := range took[e.words] {
			median, p99 := figures.Quantile(of.edits, 0.5), figures.Quantile(of.edits, 0.99)
			late, slowest, commit = late || p99 > goalP99, max(slowest, p99), max(commit, figures.Quantile(of.commits, 0.99))
			if i == 0 || median < least {
				least = median
			}
			most = max(most, median)
			fmt.Printf("%28s", fmt.Sprintf("%.1f ms, p99 %.1f ms", ms(median), ms(p99)))
		}
		apart := float64(most) / float64(least)
		figures.AtMost("edits", "an edit of "+e.words+", p99 at the record where that is most", ms(slowest), "ms", ms(goalP99),
			fmt.Sprintf("a commit of one row without us: %.1f ms", ms(commit)))
		figures.AtMost("edits", "an edit of "+e.words+", the slowest record beside the fastest", apart, "x", goalTimes, "")
		note := ""
		if late || apart > goalTimes {
			note = "  above the goal"
		}
		fmt.Printf("%8.1f x, a commit alone p99 %.1f ms%s\n", apart, ms(commit), note)
	}
	fmt.Printf("goals: p99 %.0f ms, within %.0f x of each other\n", ms(goalP99), goalTimes)
}

func ms(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }

// putOnRecord records sites one by one, each with a link, a device, five services and a hostname.
func putOnRecord(ctx context.Context, c *cluster.Cluster, many int) error {
	s, err := start(ctx, c, setting{"", 0, 0})
	if err != nil {
		return err
	}
	defer s.stop(ctx)
	began, calls := time.Now(), 0
	for n := range many {
		k, err := record(ctx, s, n)
		if err != nil {
			return err
		}
		calls += k
		if (n+1)%500 == 0 {
			fmt.Printf("%d sites after %.1f s\n", n+1, time.Since(began).Seconds())
		}
	}
	took := time.Since(began)
	figures.AtMost("edits", "2,000 sites put on record one by one", took.Seconds()*2000/float64(many), "s", goalMany.Seconds(), "")
	fmt.Printf("%d sites put on record by %d calls: %.1f s, %.2f ms a call (goal %.0f s for 2,000)\n", many, calls, took.Seconds(),
		ms(took)/float64(calls), goalMany.Seconds())
	return nil
}
