package client

import (
	"bufio"
	"context"
	"encoding/json"
	"math/rand/v2"
	"net/http"
	"strings"
	"time"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/pace"
)

// Follow calls f for every event of a site, or of all where code is empty, until ctx ends or the server refuses. It comes
// back by itself when the connection breaks, and takes up what it missed; lost is called where that was not possible.
func (c *Client) Follow(ctx context.Context, code string, f func(contract.Event), lost func(error)) error {
	last := ""
	for failures := 0; ; failures++ {
		err := c.follow(ctx, code, &last, func(ev contract.Event) { failures = 0; f(ev) }, lost)
		if ctx.Err() != nil {
			return nil
		}
		if e, ok := err.(*Error); ok && e.Status < http.StatusInternalServerError && e.Status != http.StatusTooManyRequests {
			return err // another answer is not to be had by waiting
		}
		if failures == 0 && err != nil {
			lost(err)
		}
		select {
		case <-time.After(pace.Backoff(failures, 500*time.Millisecond, 30*time.Second, rand.Float64())):
		case <-ctx.Done():
			return nil
		}
	}
}

func (c *Client) follow(ctx context.Context, code string, last *string, f func(contract.Event), lost func(error)) error {
	header := http.Header{"Accept": {"text/event-stream"}}
	if *last != "" {
		header.Set("Last-Event-ID", *last)
	}
	endless := &http.Client{Transport: c.http.Transport}
	r, err := c.send(ctx, endless, "GET", "/events"+query("site", code), nil, header)
	if err != nil {
		return err
	}
	defer r.Body.Close()
	lines := bufio.NewScanner(r.Body)
	lines.Buffer(nil, 1<<20)
	reread := false
	for lines.Scan() {
		switch line := lines.Text(); {
		case line == "event: reread":
			reread = true
			lost(nil)
		case strings.HasPrefix(line, "data: ") && !reread:
			var ev contract.Event
			if err := json.Unmarshal([]byte(line[6:]), &ev); err != nil {
				return err
			}
			*last = ev.ID
			f(ev)
		case line == "":
			reread = false
		}
	}
	return lines.Err()
}
