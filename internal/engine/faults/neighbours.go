package faults

import (
	"slices"
	"time"
)

const (
	// darkWithin is how far apart sites may have gone dark to have done so together.
	darkWithin = 10 * time.Minute
	// countedFor is how long a count of sites stands, gatheredFor how long the list of dark ones does: there may be thousands, and each of
	// them asks.
	countedFor  = 30 * time.Second
	gatheredFor = time.Second
)

// neighbours are the sites of each provider: how many there are, and which are dark.
type neighbours struct {
	all      map[string]int
	counted  time.Time
	dark     map[string][]darkSite
	gathered time.Time
}

// darkSite is a site on which nothing answers, since it was noticed.
type darkSite struct {
	id     int64
	opened time.Time
}

// Neighbours counts, of the other sites of a provider, those that went dark within ten minutes of since, and all of them.
func (b *Board) Neighbours(siteID int64, provider string, since time.Time) (dark, all int) {
	if provider == "" {
		return 0, 0
	}
	now := b.now()
	b.mu.Lock()
	n := b.neighbours
	var gone map[int64]time.Time
	if now.Sub(n.gathered) >= gatheredFor {
		gone = b.darkSites()
	}
	b.mu.Unlock()
	if gone != nil {
		n.dark, n.gathered = map[string][]darkSite{}, now
		for id, opened := range gone {
			for _, name := range b.providers(id) {
				n.dark[name] = append(n.dark[name], darkSite{id, opened})
			}
		}
	}
	if now.Sub(n.counted) >= countedFor {
		n.all, n.counted = map[string]int{}, now
		for _, p := range b.record.Sites() {
			for _, name := range b.providers(p.ID) {
				n.all[name]++
			}
		}
	}
	b.mu.Lock()
	b.neighbours = n
	b.mu.Unlock()
	for _, d := range n.dark[provider] {
		if d.id != siteID && d.opened.Sub(since).Abs() <= darkWithin {
			dark++
		}
	}
	return dark, max(0, n.all[provider]-1)
}

// darkSites lists when each site went dark that is so. The caller holds the lock.
func (b *Board) darkSites() map[int64]time.Time {
	out := map[int64]time.Time{}
	for id, list := range b.faults {
		for _, f := range list {
			if id != 0 && f.open() && (f.Finding.Cause == "site-dark" || f.Finding.Cause == "provider-outage") {
				out[id] = f.Opened
			}
		}
	}
	return out
}

// providers lists the providers of a site, each once.
func (b *Board) providers(siteID int64) (out []string) {
	p, _ := b.record.Site(siteID)
	for l := range p.EachLink() {
		if l.Provider != "" && !slices.Contains(out, l.Provider) {
			out = append(out, l.Provider)
		}
	}
	return out
}
