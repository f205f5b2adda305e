package engine

import (
	"context"
	"encoding/json"
	"fmt"
	"net/netip"
	"strings"
	"time"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/wire/speak"
)

// A review must not be usable as a port scan: one a site and hour, at most ten ports a second, few at a time.
const (
	reviewEvery  = time.Hour
	reviewPause  = 100 * time.Millisecond
	reviewWait   = 1500 * time.Millisecond
	reviewAtOnce = 4
)

// ReviewExposure looks at a site's own address, and no other, for TCP ports that are commonly left open. consent says who has agreed to it,
// and is kept. progress is told what share is done. Errors: store.Missing, site.Flaws, that of ctx.
func (e *Engine) ReviewExposure(ctx context.Context, code, consent, person string, progress func(done, of int)) (contract.Review, error) {
	p, err := e.rooms.FindSite(code)
	if err != nil {
		return contract.Review{}, err
	}
	consent = strings.TrimSpace(consent)
	if n := len([]rune(consent)); n < 10 || n > 500 {
		return contract.Review{}, site.Flaws{{Field: "consent",
			Detail: fmt.Sprintf("has %d characters; say in 10 to 500 who has agreed to the review and when", n)}}
	}
	l, ok := p.Preferred()
	at := record.Target(l)
	if !ok || !at.IsValid() {
		return contract.Review{}, site.Flaws{{Field: "site",
			Detail: "the site's public address is not known yet; there is nothing to review"}}
	}
	if why := e.rooms.Prober.Quarantined(l); why != "" {
		return contract.Review{}, site.Flaws{{Field: "site", Detail: why}}
	}
	now := e.rooms.Now()
	id, ok, err := e.rooms.Store.BeginReview(ctx, p.ID, person, consent, now, now.Add(-reviewEvery))
	if err != nil {
		return contract.Review{}, err
	}
	if !ok {
		return contract.Review{}, site.Flaws{{Field: "site",
			Detail: "the site was reviewed within the last hour; its result is still on record: inkpost site reviews " + p.Code}}
	}
	r := contract.Review{ID: id, Person: person, Consent: consent, Started: now, Address: at.String(), Ports: site.RiskyPorts()}
	var open []int
	pause := time.NewTicker(reviewPause)
	defer pause.Stop()
	type result struct {
		port int
		open bool
	}
	results := make(chan result, len(r.Ports))
	slots := make(chan struct{}, reviewAtOnce)
	moved := func() bool {
		now, _, ok := e.rooms.Record.SiteOfLink(l.ID)
		return !ok || now.ID != p.ID || record.Target(must(now.Link(l.ID))) != at
	}
	started := 0
	for _, port := range r.Ports {
		select {
		case <-pause.C:
		case <-ctx.Done():
		}
		if ctx.Err() != nil || moved() {
			break
		}
		slots <- struct{}{}
		started++
		go func() {
			defer func() { <-slots }()
			reply := speak.To(ctx, speak.Request{Kind: probe.KindTCP, Transport: probe.TCP,
				Target: netip.AddrPortFrom(at, uint16(port)), Deadline: reviewWait})
			results <- result{port, probe.Judge(reply.Result, "").Open()}
		}()
		progress(started, len(r.Ports))
	}
	for range started {
		if x := <-results; x.open {
			open = append(open, x.port)
		}
	}
	if started < len(r.Ports) {
		r.Problem = fmt.Sprintf("it ended after %d of %d ports: the address moved, or whoever asked went away", started, len(r.Ports))
		r.Ports = r.Ports[:started]
	}
	r.Ended, r.Open = e.rooms.Now(), len(open)
	r.Findings = site.Review(open, e.shownOf(p), r.Ended)
	if r.Findings == nil {
		r.Findings = []site.Advice{}
	}
	doc, err := json.Marshal(r)
	if err == nil {
		err = e.rooms.Store.EndReview(context.WithoutCancel(ctx), id, doc, r.Ended)
	}
	return r, err
}

// shownOf returns what is known of how a site's services answer.
func (e *Engine) shownOf(p record.Site) []site.Shown {
	var out []site.Shown
	for _, s := range p.Services {
		now := e.rooms.Prober.Status(s.ID)
		one := site.Shown{Service: s, State: now.State}
		if now.Shown != nil {
			one.Weakness = now.Shown.Weakness
			if now.Shown.Certificate != nil {
				one.Expires = now.Shown.Certificate.Expires
			}
		}
		out = append(out, one)
	}
	return out
}

// Reviews lists the reviews of a site, the newest first. Errors: store.Missing, that of the database.
func (e *Engine) Reviews(ctx context.Context, code string) ([]contract.Review, error) {
	p, err := e.rooms.FindSite(code)
	if err != nil {
		return nil, err
	}
	list, err := e.rooms.Store.Reviews(ctx, p.ID)
	out := make([]contract.Review, 0, len(list))
	for _, r := range list {
		var one contract.Review
		if err := json.Unmarshal(r.Doc, &one); err != nil {
			return out, err
		}
		one.ID, one.Person, one.Consent, one.Started, one.Ended = r.ID, r.Person, r.Consent, r.Started.Time, r.Ended.Time
		out = append(out, one)
	}
	return out, err
}

func must[T any](v T, _ bool) T { return v }
