package engine

import (
	"context"
	"fmt"
	"slices"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/core/wan"
)

// KeepHostname has a hostname stay at the addresses that it has, whatever its link does; ReleaseHostname lets it follow again.
func (e *Engine) KeepHostname(ctx context.Context, name string) (contract.Hostname, error) {
	h, err := e.Hostname(name)
	if err != nil {
		return h, err
	}
	p, _ := e.record.site(h.SiteID)
	pair := p.answerOf(h.Hostname)
	if !pair.Known() {
		return h, site.Flaws{{Field: "name", Detail: fmt.Sprintf("%s has no address yet that it could be kept at", name)}}
	}
	return e.keep(ctx, p, site.KeptByOperator, map[int64]wan.Pair{h.ID: pair}, h, "is kept at "+pair.String())
}

// ReleaseHostname lets a hostname that is kept follow its link again.
func (e *Engine) ReleaseHostname(ctx context.Context, name string) (contract.Hostname, error) {
	h, err := e.Hostname(name)
	if err != nil || h.KeptBy == "" {
		return h, err
	}
	p, _ := e.record.site(h.SiteID)
	return e.keep(ctx, p, "", map[int64]wan.Pair{h.ID: {}}, h, "follows its link again")
}

func (e *Engine) keep(ctx context.Context, p premises, by site.Keeper, kept map[int64]wan.Pair, h contract.Hostname, words string) (contract.Hostname, error) {
	err := e.change(ctx, p.Code, "hostname "+string(h.Name)+" "+words, func() error { return e.store.KeepHostnames(ctx, by, kept, []int64{h.ZoneID}) })
	if err != nil {
		return h, err
	}
	return e.Hostname(string(h.Name))
}

// KeepOut has exactly the named hostnames of a link stay where they are while an announcement moves the others. What an
// earlier announcement kept out and this one does not follows again. It does nothing where that is so already, or where the
// announcement itself cannot be taken. Errors: those of Announce.
func (e *Engine) KeepOut(ctx context.Context, linkID int64, except map[string]bool, a wan.Announcement) error {
	p, l, ok := e.record.ofLink(linkID)
	if !ok {
		return ErrLinkGone
	}
	if _, err := wan.Decide(l.Addresses(), a, e.config.Policy); err != nil {
		return err
	}
	keep, release := map[int64]wan.Pair{}, map[int64]wan.Pair{}
	var zones []int64
	for _, h := range p.hostnames {
		l, follows := p.followed(h.LinkID)
		if !follows || l.ID != linkID || h.KeptBy == site.KeptByOperator || except[string(h.Name)] == (h.KeptBy == site.KeptByAnnouncement) {
			continue
		}
		if pair := p.answerOf(h); except[string(h.Name)] && pair.Known() {
			keep[h.ID] = pair
		} else if h.KeptBy == site.KeptByAnnouncement {
			release[h.ID] = wan.Pair{}
		}
		if !slices.Contains(zones, h.ZoneID) {
			zones = append(zones, h.ZoneID)
		}
	}
	if len(keep)+len(release) == 0 {
		return nil
	}
	return e.change(ctx, p.Code, "hostnames were kept out of an announcement", func() error {
		if err := e.store.KeepHostnames(ctx, "", release, zones); err != nil || len(keep) == 0 {
			return err
		}
		return e.store.KeepHostnames(ctx, site.KeptByAnnouncement, keep, zones)
	})
}
