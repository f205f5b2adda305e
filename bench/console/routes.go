package main

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"inkpost.example/inkpost/bench/figures"
	"inkpost.example/inkpost/internal/demo"
)

// samples stand for what the parameters of a path name, in the demo.
var samples = map[string]string{
	"/sites/{code}/": "KET-07", "/sites/{code}": "KET-07", "{label}": "main", "/services/{name}": "playback", "/devices/{name}": "recorder",
	"/hostnames/{name}": "ket-07.isles.saltmarsh.example", "/aliases/{name}": "museum.isles.saltmarsh.example",
	"/redirects/{name}": "museum-view.isles.saltmarsh.example", "/zones/{apex}": "isles.saltmarsh.example",
	"/causes/{cause}": "device-off", "/people/{name}": "owner",
}

// filled puts the samples into a path; ok is false for one whose parameters have none.
func filled(path string) (string, bool) {
	for where, sample := range samples {
		open := strings.IndexByte(where, '{')
		path = strings.Replace(path, where, where[:open]+sample+where[strings.IndexByte(where, '}')+1:], 1)
	}
	return path, !strings.ContainsAny(path, "{}")
}

// streams are answered for as long as one listens, and some ask others: how long that takes is not the server's.
var streams = []string{"/events", "/checkup", "/sites/{code}/why", "/agent/", "/vantage/", "/members/", "/session"}

// askAll measures every route that reads, by the description that the server gives of itself.
func askAll(ctx context.Context, d *demo.Demo, calls int) error {
	answer, err := http.Get(d.URL + "/api/v1/openapi.json")
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	var described struct {
		Paths map[string]map[string]json.RawMessage
	}
	if err := json.NewDecoder(answer.Body).Decode(&described); err != nil {
		return err
	}
	var paths, left []string
	for path, methods := range described.Paths {
		short, ours := strings.CutPrefix(path, "/api/v1")
		other := func(s string) bool { return strings.HasPrefix(short, s) }
		if _, reads := methods["get"]; !reads || !ours || slices.ContainsFunc(streams, other) {
			continue
		}
		paths = append(paths, short)
	}
	slices.Sort(paths)
	fmt.Printf("\n%-64s %9s %9s\n", "GET", "median", "99 %")
	for _, path := range paths {
		at, ok := filled(path)
		if !ok || read(ctx, d, at) != nil {
			left = append(left, path)
			continue
		}
		took := make([]time.Duration, calls)
		var wg sync.WaitGroup
		var failed error
		var mu sync.Mutex
		for worker := range people {
			wg.Go(func() {
				for i := worker; i < calls; i += people {
					began := time.Now()
					if err := read(ctx, d, at); err != nil {
						mu.Lock()
						failed = err
						mu.Unlock()
					}
					took[i] = time.Since(began)
					time.Sleep(20 * time.Millisecond)
				}
			})
		}
		wg.Wait()
		if failed != nil {
			return fmt.Errorf("%s: %w", path, failed)
		}
		slices.Sort(took)
		ms := func(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }
		p50, p99 := ms(figures.Quantile(took, 0.5)), ms(figures.Quantile(took, 0.99))
		fmt.Printf("%-64s %6.1f ms %6.1f ms\n", path, p50, p99)
		figures.Plain("routes", "GET "+path+", median", p50, "ms", "")
		if path == "/record" { // all of it, as a file
			figures.Plain("routes", "GET "+path+", 99 %", p99, "ms", "")
			continue
		}
		figures.AtMost("routes", "GET "+path+", 99 %", p99, "ms", ms(goalP99), "")
	}
	fmt.Printf("not asked, as the demo has nothing under such a name, or it needs to be told more: %s\n", strings.Join(left, ", "))
	return nil
}
