package faults

import (
	"time"

	"inkpost.example/inkpost/internal/core/causes"
)

const (
	// darkWithin is how far apart sites may have gone dark to have done so together.
	darkWithin = 10 * time.Minute
	// countedFor is how long a count of sites stands: there may be thousands.
	countedFor = 30 * time.Second
)

// Neighbours counts, of the other sites of a provider, those that went dark within ten minutes of since, and all of them.
func (b *Board) Neighbours(siteID int64, provider string, since time.Time) (dark, all int) {
	if provider == "" {
		return 0, 0
	}
	b.mu.Lock()
	var suspects []int64
	for id, list := range b.open {
		for _, f := range list {
			if id != siteID && dims(f.Finding.Cause) && f.Opened.Sub(since).Abs() <= darkWithin {
				suspects = append(suspects, id)
				break
			}
		}
	}
	counted, fresh := b.counted, b.now().Sub(b.countedAt) < countedFor
	b.mu.Unlock()
	for _, id := range suspects {
		p, _ := b.record.Site(id)
		for l := range p.EachLink() {
			if l.Provider == provider {
				dark++
				break
			}
		}
	}
	if !fresh {
		counted = b.count()
	}
	return dark, max(0, counted[provider]-1)
}

// dims reports whether a cause leaves a whole site dark.
func dims(c causes.Slug) bool { return c == "site-dark" || c == "provider-outage" }

// count counts the sites of each provider.
func (b *Board) count() map[string]int {
	out := map[string]int{}
	for _, p := range b.record.Sites() {
		seen := map[string]bool{}
		for l := range p.EachLink() {
			if l.Provider != "" && !seen[l.Provider] {
				seen[l.Provider] = true
				out[l.Provider]++
			}
		}
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	b.counted, b.countedAt = out, b.now()
	return out
}
