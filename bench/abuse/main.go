// Abuse runs attacks by strangers and bad keys, and ten times of all that a service is meant to take, against a running service, one after
// the other. It prints how everybody else fares: the median latency of their announcements, beside that without an attack in the same run,
// and how long a person waits for a page.
package main

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"inkpost.example/inkpost/bench/figures"
	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/store/cluster"
)

const (
	links   = 40                      // of others, each with a key of its own
	every   = 1200 * time.Millisecond // between two announcements of a link: what one key may do
	length  = 8 * time.Second         // of each trial
	goal    = 5.0                     // times the quiet median
	patient = 200 * time.Millisecond  // what a person waits for a page at most, at 99 %
	reads   = 50 * time.Millisecond   // between two pages of a person
	badKeys = 4
)

func main() {
	if err := run(context.Background()); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func run(ctx context.Context) error {
	dir, err := os.MkdirTemp("", "inkpost-abuse-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	if err := os.Chmod(dir, 0o755); err != nil { // the database's user has to get in
		return err
	}
	c, err := cluster.Start(ctx, cluster.Options{Dir: filepath.Join(dir, "database"), Fast: true})
	if err != nil {
		return err
	}
	defer c.Stop()
	s, err := launch(ctx, dir, c.URL("inkpost"))
	if err != nil {
		return err
	}
	defer s.stop()
	if err := s.furnish(ctx); err != nil {
		return err
	}
	fmt.Printf("%d links of others announce every %v; each trial takes %v.\n\n", links, every, length)
	fmt.Printf("%-52s %9s %9s %6s %9s  %s\n", "abuse", "median", "99 %", "ratio", "a page", "what became of it")
	_ = s.measure(ctx, nil) // plans and caches are made
	quiet := s.measure(ctx, nil)
	fmt.Printf("%-52s %9v %9v %6s %9v\n", "none", quiet.at(0.5), quiet.at(0.99), "1.0", quiet.page(0.99))
	worst, page := 0.0, time.Duration(0)
	for _, x := range s.trials() {
		var done counts
		got := s.measure(ctx, func(ctx context.Context) { x.do(ctx, &done) })
		ratio := float64(got.at(0.5)) / float64(quiet.at(0.5))
		worst, page = max(worst, ratio), max(page, got.page(0.99))
		fmt.Printf("%-52s %9v %9v %6.1f %9v  %s; %d of others' announcements were not taken, %d pages not shown\n", x.what,
			got.at(0.5), got.at(0.99), ratio, got.page(0.99), done.String(), got.failed, got.unread)
		figures.AtMost("abuse", x.what+": a person's page, 99 %", float64(got.page(0.99).Microseconds())/1000, "ms",
			float64(patient.Milliseconds()), "")
	}
	again := s.measure(ctx, nil)
	back := float64(again.at(0.5)) / float64(quiet.at(0.5))
	fmt.Printf("%-52s %9v %9v %6.1f %9v\n", "none, afterwards", again.at(0.5), again.at(0.99), back, again.page(0.99))
	figures.AtMost("abuse", "afterwards, beside before, median", back, "x", 1.5, quiet.at(0.5).String())
	figures.AtMost("abuse", "announcements of others while somebody misbehaves, beside without, worst median", worst, "x", goal,
		quiet.at(0.5).String())
	fmt.Printf("\nworst %.1f times the quiet median; the goal is below %.0f. A page takes %v at most at 99 %%; the goal is below %v\n",
		worst, goal, page, patient)
	if worst >= goal || page >= patient {
		return errors.New("the goal is missed")
	}
	return nil
}

// service is the program as a process of its own.
type service struct {
	cmd     *exec.Cmd
	url     string
	dns     string
	owner   *client.Client
	key     string   // the owner's
	routers []string // URLs
	agents  []string // keys
}

var (
	listening = regexp.MustCompile(`Console and API at (\S+), names answered at (\S+)\.`)
	oneTime   = regexp.MustCompile(`One-time password of owner: (\S+)`)
)

func launch(ctx context.Context, dir, database string) (*service, error) {
	file := filepath.Join(dir, "inkpost")
	if out, err := exec.CommandContext(ctx, "go", "build", "-o", file, "./cmd/inkpost").CombinedOutput(); err != nil {
		return nil, fmt.Errorf("%w: %s", err, out)
	}
	// All come from one machine: a trusted proxy says from which network.
	s := &service{cmd: exec.CommandContext(ctx, file, "serve", "--database-url", database, "--http", "127.0.0.1:0", "--dns",
		"127.0.0.1:0", "--redirect", "", "--stun", "",
		"--lab-public", "198.51.100.0/24", "--trust-proxy", "127.0.0.1/32", "--state-dir", dir, "--log-level", "error")}
	out, err := s.cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if err := s.cmd.Start(); err != nil {
		return nil, err
	}
	password := ""
	for lines := bufio.NewScanner(out); lines.Scan(); {
		if m := oneTime.FindStringSubmatch(lines.Text()); m != nil {
			password = m[1]
		}
		if m := listening.FindStringSubmatch(lines.Text()); m != nil {
			s.url, s.dns = m[1], m[2]
			return s, s.signIn(ctx, password)
		}
	}
	return nil, errors.New("the service did not start")
}

func (s *service) stop() {
	_ = s.cmd.Process.Signal(os.Interrupt)
	_ = s.cmd.Wait()
}

func (s *service) signIn(ctx context.Context, password string) error {
	anonymous, err := client.New(s.url, "")
	if err != nil {
		return err
	}
	visit, err := anonymous.SignIn(ctx, "owner", password)
	if err != nil {
		return err
	}
	if err := visit.SetPassword(ctx, "slipway-gannet-kettle"); err != nil {
		return err
	}
	key, err := visit.AddKey(ctx, "bench")
	if err != nil {
		return err
	}
	s.key = key.Secret
	s.owner, err = client.New(s.url, key.Secret)
	return err
}

// furnish records the links of others, and those whose keys are in bad hands.
func (s *service) furnish(ctx context.Context) error {
	const zone = "isles.saltmarsh.example"
	if _, err := s.owner.AddZone(ctx, contract.ZoneInput{Apex: zone, Servers: []string{"ns1." + zone + "=198.51.100.1"}}); err != nil {
		return err
	}
	for i := range links + badKeys {
		code := fmt.Sprintf("SITE-%02d", i)
		if _, err := s.owner.AddSite(ctx, contract.SiteInput{Code: code, Name: code}); err != nil {
			return err
		}
		if _, err := s.owner.AddLink(ctx, code, contract.LinkInput{Label: "main"}); err != nil {
			return err
		}
		if _, err := s.owner.AddHostname(ctx, contract.HostnameInput{Name: fmt.Sprintf("s%02d.%s", i, zone), Site: code}); err != nil {
			return err
		}
		if i >= links {
			inv, err := s.owner.Invite(ctx, code, "main")
			if err != nil {
				return err
			}
			e, err := s.owner.Enrol(ctx, contract.Enrolment{Code: inv.Code, Label: "stolen"})
			if err != nil {
				return err
			}
			s.agents = append(s.agents, e.Key)
			continue
		}
		key, err := s.owner.AddRouterKey(ctx, code, "main", "router", documentation)
		if err != nil {
			return err
		}
		s.routers = append(s.routers, s.url+"/announce/"+key.Secret)
	}
	return nil
}

// latencies of announcements that were taken, in order, and of pages; failed and unread count the others.
type latencies struct {
	took, pages    []time.Duration
	failed, unread int
}

func (l latencies) at(q float64) time.Duration { return quantile(l.took, q) }

func (l latencies) page(q float64) time.Duration { return quantile(l.pages, q) }

func quantile(list []time.Duration, q float64) time.Duration {
	if len(list) == 0 {
		return time.Hour
	}
	return figures.Quantile(list, q).Round(10 * time.Microsecond)
}

// read has a person look at one page after the other.
func (s *service) read(ctx context.Context, out *latencies) {
	tick := time.NewTicker(reads)
	defer tick.Stop()
	pages := []func() error{
		func() error { _, err := s.owner.Overview(ctx); return err },
		func() error { _, err := s.owner.Sites(ctx); return err },
		func() error { _, err := s.owner.Site(ctx, "SITE-01"); return err },
	}
	for n := 0; ; n++ {
		began := time.Now()
		switch err := pages[n%len(pages)](); {
		case ctx.Err() != nil:
			return
		case err != nil:
			out.unread++
		default:
			out.pages = append(out.pages, time.Since(began))
		}
		select {
		case <-tick.C:
		case <-ctx.Done():
			return
		}
	}
}

// measure makes the links of others announce changes for a while, during an attack.
func (s *service) measure(ctx context.Context, abuse func(context.Context)) (out latencies) {
	ctx, end := context.WithTimeout(ctx, length)
	defer end()
	var mu sync.Mutex
	var wg sync.WaitGroup
	if abuse != nil {
		wg.Go(func() { abuse(ctx) })
	}
	wg.Go(func() { s.read(ctx, &out) })
	for i, at := range s.routers {
		wg.Go(func() {
			tick := time.NewTicker(every)
			defer tick.Stop()
			<-time.After(time.Duration(i) * every / links)
			for n := 0; ; n++ {
				began := time.Now()
				req, err := http.NewRequestWithContext(ctx, http.MethodGet, fmt.Sprintf("%s?ipv4=198.51.100.%d", at, 1+(i*6+n%6)), nil)
				if err != nil {
					return
				}
				r, err := http.DefaultClient.Do(req)
				mu.Lock()
				switch {
				case ctx.Err() != nil:
				case err != nil:
					out.failed++
				case r.StatusCode != http.StatusOK:
					out.failed++
				default:
					out.took = append(out.took, time.Since(began))
				}
				mu.Unlock()
				if err == nil {
					_ = r.Body.Close()
				}
				select {
				case <-tick.C:
				case <-ctx.Done():
					return
				}
			}
		})
	}
	wg.Wait()
	slices.Sort(out.took)
	slices.Sort(out.pages)
	return out
}

// counts is what became of an attacker's requests.
type counts struct{ asked, refused, cut atomic.Int64 }

func (c *counts) String() string {
	return fmt.Sprintf("%d requests, %d refused, %d cut or never answered", c.asked.Load(), c.refused.Load(), c.cut.Load())
}
