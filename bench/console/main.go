// Console measures the console on a demo with many sites, in headless Chromium: how soon the first page can be used, how much script that
// takes, how soon typing into the search is answered; and how long the server takes for what its pages ask, while a few people ask.
package main

import (
	"context"
	"flag"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"os"
	"runtime/pprof"
	"runtime/trace"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/chromedp/chromedp"

	"inkpost.example/inkpost/bench/figures"
	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/demo"
	"inkpost.example/inkpost/internal/testbed/chromium"
	"inkpost.example/inkpost/web"
)

// Goals of the table that is printed.
const (
	goalUsable = 1500 * time.Millisecond
	goalScript = 300.0 // kB, gzipped
	goalTyping = 100 * time.Millisecond
	goalP99    = 50 * time.Millisecond
)

func main() {
	sites := flag.Int("sites", 2000, "sites of the demo")
	rounds := flag.Int("rounds", 7, "times that the first page is opened")
	calls := flag.Int("calls", 300, "requests of each kind")
	profile := flag.String("profile", "", "a file for a processor profile of the requests")
	recorded := flag.String("trace", "", "a file for what the program did around the first request over the goal")
	flag.Parse()
	if err := run(context.Background(), *sites, *rounds, *calls, *profile, *recorded); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

// people is how many ask at once.
const people = 2

const password = "slipway-gannet-kettle"

func run(ctx context.Context, sites, rounds, calls int, profile, recorded string) error {
	dir, err := os.MkdirTemp("", "inkpost-console-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	d, err := demo.Start(ctx, demo.Options{Dir: dir, HTTP: "127.0.0.1:0", DNS: "127.0.0.1:0", Redirect: "127.0.0.1:0", STUN: "127.0.0.1:0",
		Sites: sites, Console: web.Console(), Log: slog.New(slog.NewTextHandler(io.Discard, nil)), Say: os.Stderr})
	if err != nil {
		return err
	}
	defer d.Stop()
	anonymous, err := client.New(d.URL, "")
	if err != nil {
		return err
	}
	visit, err := anonymous.SignIn(ctx, d.Owner, d.Password)
	if err != nil {
		return err
	}
	if err := visit.SetPassword(ctx, password); err != nil {
		return err
	}
	time.Sleep(30 * time.Second) // until it does what it does all day
	fmt.Printf("%d sites, with a year's past, on %s\n\n", sites, time.Now().Format(time.DateOnly))
	if err := look(d, rounds); err != nil {
		return err
	}
	time.Sleep(5 * time.Second) // until the browser has ended: it is no part of what the server takes
	if profile != "" {
		f, err := os.Create(profile)
		if err != nil {
			return err
		}
		defer f.Close()
		if err := pprof.StartCPUProfile(f); err != nil {
			return err
		}
		defer pprof.StopCPUProfile()
	}
	slow := func(string, time.Duration) {}
	if recorded != "" {
		last := trace.NewFlightRecorder(trace.FlightRecorderConfig{MinAge: 2 * time.Second, MaxBytes: 64 << 20})
		if err := last.Start(); err != nil {
			return err
		}
		defer last.Stop()
		var once sync.Once
		slow = func(what string, took time.Duration) {
			fmt.Printf("%s  %s took %s\n", time.Now().Format("15:04:05.000"), what, took)
			once.Do(func() {
				if f, err := os.Create(recorded); err == nil {
					_, _ = last.WriteTo(f)
					_ = f.Close()
				}
			})
		}
	}
	if err := ask(ctx, d, calls, slow); err != nil {
		return err
	}
	return askAll(ctx, d, calls/3)
}

// row prints a figure and its goal.
func row(what, figure, goal string, ok bool) {
	if value, unit, err := parsed(figure); err == nil {
		most, _, _ := parsed(goal)
		short, _, _ := strings.Cut(what, " (median")
		figures.AtMost("console", short, value, unit, most, "")
	}
	word := "reached"
	if !ok {
		word = "NOT reached"
	}
	fmt.Printf("%-52s %12s   goal %10s   %s\n", what, figure, goal, word)
}

// parsed reads a figure as it is printed: times in milliseconds, sizes in kB.
func parsed(text string) (value float64, unit string, err error) {
	if d, err := time.ParseDuration(text); err == nil {
		return float64(d.Microseconds()) / 1000, "ms", nil
	}
	_, err = fmt.Sscanf(text, "%f %s", &value, &unit)
	return value, unit, err
}

// look measures the console.
func look(d *demo.Demo, rounds int) error {
	tab, end, err := chromium.Start(context.Background())
	if err != nil {
		return err
	}
	defer end()
	if err := chromedp.Do(tab, chromedp.Navigate(d.URL),
		chromedp.WaitVisible(`input[name="password"]`),
		chromedp.SendKeys(`input[name="name"]`, d.Owner), chromedp.SendKeys(`input[name="password"]`, password+"\r"),
		chromedp.WaitVisible(`[data-site]`)); err != nil {
		return err
	}
	var usable []time.Duration
	for range rounds {
		// The page says itself when its list and its search are there: performance.now() counts from the beginning of the navigation.
		if err := chromedp.Do(tab, chromedp.Navigate(d.URL)); err != nil {
			return err
		}
		ms, err := chromedp.Run(tab, chromedp.Poll[float64](
			`document.querySelector('[data-site]') && document.querySelector('input[type="search"]') && performance.now()`,
			chromedp.WithPollingInterval(5*time.Millisecond)))
		if err != nil {
			return err
		}
		usable = append(usable, time.Duration(ms*float64(time.Millisecond)))
	}
	slices.Sort(usable)
	row("first page usable, median", usable[rounds/2].Round(time.Millisecond).String(), goalUsable.String(), usable[rounds/2] <= goalUsable)
	row("first page usable, slowest", usable[rounds-1].Round(time.Millisecond).String(), goalUsable.String(),
		usable[rounds-1] <= goalUsable)
	script, err := chromedp.Run(tab, chromedp.Evaluate[float64](`performance.getEntriesByType('resource')
		.filter(e => e.name.endsWith('.js') && !e.name.endsWith('push.js')).reduce((n, e) => n + e.encodedBodySize, 0) / 1000`))
	if err != nil {
		return err
	}
	row("script of the first page, gzipped", fmt.Sprintf("%.0f kB", script), fmt.Sprintf("%.0f kB", goalScript), script <= goalScript)
	typing, err := typed(tab, "oyster bank 7")
	if err != nil {
		return err
	}
	row("a key in the search answered, median", typing[len(typing)/2].Round(time.Millisecond).String(), goalTyping.String(),
		typing[len(typing)/2] <= goalTyping)
	row("a key in the search answered, slowest", typing[len(typing)-1].Round(time.Millisecond).String(), goalTyping.String(),
		typing[len(typing)-1] <= goalTyping)
	return nil
}

// typed types text into the search, and returns how long each key took until its answer was there and drawn.
func typed(tab context.Context, text string) ([]time.Duration, error) {
	if err := chromedp.Do(tab, chromedp.Click(`input[type="search"]`)); err != nil {
		return nil, err
	}
	var out []time.Duration
	for i := range text {
		want := text[:i+1]
		prepare := fmt.Sprintf(`window.keyTook = undefined; addEventListener('keydown', () => {
			const began = performance.now()
			const look = () => {
				const done = performance.getEntriesByType('resource').some(e => e.startTime >= began - 5 &&
					new URL(e.name).searchParams.get('search') === %q && e.responseEnd > 0)
				if (done) requestAnimationFrame(() => setTimeout(() => { window.keyTook = performance.now() - began }))
				else setTimeout(look, 2)
			}
			look()
		}, { once: true }); performance.clearResourceTimings(); true`, want)
		if _, err := chromedp.Run(tab, chromedp.Evaluate[bool](prepare)); err != nil {
			return nil, err
		}
		if err := chromedp.Do(tab, chromedp.KeyEvent(text[i:i+1])); err != nil {
			return nil, err
		}
		ms, err := chromedp.Run(tab, chromedp.Poll[float64](`window.keyTook`, chromedp.WithPollingInterval(5*time.Millisecond),
			chromedp.WithPollingTimeout(5*time.Second)))
		if err != nil {
			return nil, fmt.Errorf("typing %q: %w", want, err)
		}
		out = append(out, time.Duration(ms*float64(time.Millisecond)))
	}
	slices.Sort(out)
	return out, nil
}

// ask measures what the pages ask of the server, as a few people do: until the last byte of the answer is there.
func ask(ctx context.Context, d *demo.Demo, calls int, slow func(what string, took time.Duration)) error {
	c, err := client.New(d.URL, d.Key)
	if err != nil {
		return err
	}
	list, _, err := c.SitesLike(ctx, contract.SiteQuery{Search: "kettle-east", Sort: "code", Limit: 2})
	if err != nil {
		return err
	}
	site := "/sites/" + list[1].Code
	quarter := time.Now().AddDate(0, 0, -90).UTC().Format(time.RFC3339)
	fmt.Println()
	for _, one := range []struct{ what, path string }{
		{"overview", "/overview"},
		{"sites, a page", "/sites?limit=100"},
		{"sites, searched and sorted", "/sites?search=net+loft&sort=name&limit=100"},
		{"a site", site},
		{"a service's days", site + "/services/playback/days?count=365"},
		{"a service's history, 90 days", site + "/services/playback/history?from=" + quarter},
		{"a site's availability", site + "/availability"},
		{"moves", "/moves?limit=50"},
		{"open faults", "/faults?open=true"},
		{"hostnames", "/hostnames?limit=40"},
	} {
		took := make([]time.Duration, calls)
		var wg sync.WaitGroup
		var failed error
		var mu sync.Mutex
		for worker := range people {
			wg.Go(func() {
				for i := worker; i < calls; i += people {
					began := time.Now()
					if err := read(ctx, d, one.path); err != nil {
						mu.Lock()
						failed = err
						mu.Unlock()
					}
					if took[i] = time.Since(began); took[i] > 75*time.Millisecond {
						slow(one.what, took[i])
					}
					time.Sleep(50 * time.Millisecond) // as people ask, not as a load test does
				}
			})
		}
		wg.Wait()
		if failed != nil {
			return fmt.Errorf("%s: %w", one.what, failed)
		}
		slices.Sort(took)
		p50, p99 := figures.Quantile(took, 0.5), figures.Quantile(took, 0.99)
		row(fmt.Sprintf("%s, p99 (median %s)", one.what, p50.Round(100*time.Microsecond)), p99.Round(100*time.Microsecond).String(),
			goalP99.String(), p99 <= goalP99)
	}
	return nil
}

// read asks for a path, and reads the answer without making anything of it: that is the browser's work.
func read(ctx context.Context, d *demo.Demo, path string) error {
	q, err := http.NewRequestWithContext(ctx, http.MethodGet, d.URL+"/api/v1"+path, nil)
	if err != nil {
		return err
	}
	q.Header.Set("Authorization", "Bearer "+d.Key)
	answer, err := http.DefaultClient.Do(q)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	if _, err := io.Copy(io.Discard, answer.Body); err != nil {
		return err
	}
	if answer.StatusCode != http.StatusOK {
		return fmt.Errorf("%s: %s", path, answer.Status)
	}
	return nil
}
