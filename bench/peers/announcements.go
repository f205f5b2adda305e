package main

import (
	"fmt"
	"io"
	"net/http"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"inkpost.example/inkpost/bench/figures"
	"inkpost.example/inkpost/internal/contract"
)

const callers = 64

// anywhere lets the bench's keys announce addresses that are not the bench's own.
var anywhere = []netip.Prefix{netip.MustParsePrefix("198.51.100.0/24"), netip.MustParsePrefix("203.0.113.0/24")}

// announcements has agents announce over HTTP, with the load generator in this process on the same processors.
func announcements(r rig) error {
	us, err := r.inkpost(updateNames, true)
	if err != nil {
		return err
	}
	defer us.stop()
	keys := make([]string, callers)
	for i := range keys {
		inv, err := us.Engine().Invite(r.ctx, "BEN-01", fmt.Sprintf("l%d", i), contract.InvitationInput{MayAnnounce: anywhere})
		if err != nil {
			return err
		}
		e, err := us.Engine().Enrol(r.ctx, contract.Enrolment{Code: inv.Code})
		if err != nil {
			return err
		}
		keys[i] = e.Key
	}
	client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: callers, DisableCompression: true}}
	announce := func(i, n int) error {
		req, err := http.NewRequestWithContext(r.ctx, "POST", us.URL+"/api/v1/agent/announcements",
			strings.NewReader(fmt.Sprintf(`{"source":"gateway","protocol":2,"sent":%[2]q,"reports":[{"source":"stun",`+
				`"ipv4":"198.51.100.%[1]d"},{"source":"gateway","ipv4":"198.51.100.%[1]d"}]}`,
				1+(i*3+n)%250, time.Now().UTC().Format(time.RFC3339Nano))))
		if err != nil {
			return err
		}
		req.Header.Set("Authorization", "Bearer "+keys[i])
		req.Header.Set("Content-Type", "application/json")
		reply, err := client.Do(req)
		if err != nil {
			return err
		}
		defer reply.Body.Close()
		if _, err := io.Copy(io.Discard, reply.Body); err != nil {
			return err
		}
		if reply.StatusCode != http.StatusOK {
			return fmt.Errorf("it answered %s", reply.Status)
		}
		return nil
	}
	fmt.Printf("HTTP announcements, %d agents, load generator on the same processors, PostgreSQL waits for the disk\n", callers)
	for _, x := range []struct {
		name    string
		changes bool
		rate    int // a second; 0 for as many as go
	}{{"changes", true, 0}, {"unchanged", false, 0}, {"changes, 1,000 a second", true, 1000}} {
		took, whole, err := r.together(x.rate, func(i, n int) error {
			if !x.changes {
				n = 0
			}
			return announce(i, n)
		})
		if err != nil {
			return err
		}
		fmt.Printf("%-26s %8.0f/s   median %6.2f ms   p99 %6.2f ms   most %6.2f ms\n", x.name, float64(len(took))/whole.Seconds(),
			millis(figures.Quantile(took, 0.5)), millis(figures.Quantile(took, 0.99)), millis(took[len(took)-1]))
		what := fmt.Sprintf("HTTP announcements, %d agents, %s", callers, x.name)
		figures.Plain("announcements", what, float64(len(took))/whole.Seconds(), "a second", "")
		figures.Plain("announcements", what+", p99", millis(figures.Quantile(took, 0.99)), "ms", "")
	}
	return nil
}

func millis(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }

// together has all callers make requests for the length of a measurement, at a rate in all or as fast as they go, and
// gives how long each took, from when it was due.
func (r rig) together(rate int, f func(caller, n int) error) (took []time.Duration, whole time.Duration, err error) {
	var mu sync.Mutex
	var wg sync.WaitGroup
	var failed atomic.Pointer[error]
	began := time.Now()
	until := began.Add(time.Duration(r.seconds) * time.Second)
	for i := range callers {
		wg.Go(func() {
			var own []time.Duration
			for n := 1; ; n++ {
				due := time.Now()
				if rate > 0 { // callers are due one after the other
					due = began.Add(time.Duration(n*callers+i) * time.Second / time.Duration(rate))
					time.Sleep(time.Until(due))
				}
				if due.After(until) {
					break
				}
				if err := f(i, n); err != nil {
					failed.Store(&err)
					break
				}
				own = append(own, time.Since(due))
			}
			mu.Lock()
			took = append(took, own...)
			mu.Unlock()
		})
	}
	wg.Wait()
	whole = time.Since(began)
	if p := failed.Load(); p != nil {
		return nil, 0, *p
	}
	slices.Sort(took)
	return took, whole, nil
}
