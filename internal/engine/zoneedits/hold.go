package zoneedits

import (
	"context"
	"fmt"
	"slices"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/engine/changes"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/engine/rooms"
	"inkpost.example/inkpost/internal/store"
)

// HoldHostname holds a hostname at the addresses that it has, whatever its link does; ReleaseHostname lets it follow again.
func (e *ZoneEdits) HoldHostname(ctx context.Context, name string) (contract.Hostname, error) {
	return e.keep(ctx, name, func(p record.Site, h site.Hostname) (site.Holder, wan.Pair, string, error) {
		pair := p.AnswerOf(h)
		if !pair.Known() {
			return "", pair, "", site.Flaws{{Field: "name", Detail: fmt.Sprintf("%s has no address yet at which it could be held", name)}}
		}
		return site.HoldByOperator, pair, "is kept at " + pair.String(), nil
	})
}

// ReleaseHostname lets a held hostname follow its link again.
func (e *ZoneEdits) ReleaseHostname(ctx context.Context, name string) (contract.Hostname, error) {
	return e.keep(ctx, name, func(record.Site, site.Hostname) (site.Holder, wan.Pair, string, error) {
		return "", wan.Pair{}, "follows its link again", nil
	})
}

func (e *ZoneEdits) keep(ctx context.Context, name string,
	decide func(record.Site, site.Hostname) (site.Holder, wan.Pair, string, error)) (contract.Hostname, error) {
	err := e.Change(ctx, func() (changes.Edit, error) {
		h, err := e.Hostname(ctx, name)
		if err != nil {
			return changes.Edit{}, err
		}
		p, _ := e.Record.Site(h.SiteID)
		by, pair, words, err := decide(p, h.Hostname)
		return changes.Edit{Site: p.Code, Words: "hostname " + name + " " + words, Of: HostnameResource(h.Hostname),
			Before: map[string]string{"hold_at": rooms.HoldAt(h.Hostname)}, After: map[string]string{"hold_at": pair.String()},
			Write: func(ctx context.Context, tx *store.Store) error {
				return tx.HoldHostnames(ctx, by, map[int64]wan.Pair{h.ID: pair}, []int64{h.ZoneID})
			}}, err
	})
	if err != nil {
		return contract.Hostname{}, err
	}
	return e.Hostname(ctx, name)
}

// HoldBack holds exactly the named hostnames of a link where they are while an announcement moves the others. What an earlier announcement
// held and this one does not follows again. It does nothing where that is so already.
func (e *ZoneEdits) HoldBack(ctx context.Context, linkID int64, except map[string]bool) error {
	if _, _, zones := e.heldBack(linkID, except); len(zones) == 0 {
		return nil
	}
	return e.Change(ctx, func() (changes.Edit, error) {
		p, _, ok := e.Record.SiteOfLink(linkID)
		if !ok {
			return changes.Edit{}, changes.ErrLinkGone
		}
		keep, release, zones := e.heldBack(linkID, except)
		return changes.Edit{Site: p.Code, Words: "hostnames were kept out of an announcement",
			Write: func(ctx context.Context, tx *store.Store) error {
				if err := tx.HoldHostnames(ctx, "", release, zones); err != nil || len(keep) == 0 {
					return err
				}
				return tx.HoldHostnames(ctx, site.HoldByAnnouncement, keep, zones)
			}}, nil
	})
}

// heldBack returns which hostnames of a link are to be held and which released, and in which zones.
func (e *ZoneEdits) heldBack(linkID int64, except map[string]bool) (keep, release map[int64]wan.Pair, zones []int64) {
	p, _, _ := e.Record.SiteOfLink(linkID)
	keep, release = map[int64]wan.Pair{}, map[int64]wan.Pair{}
	for _, h := range p.Hostnames {
		l, follows := p.Followed(h.LinkID)
		if !follows || l.ID != linkID || h.HoldBy == site.HoldByOperator ||
			except[string(h.Name)] == (h.HoldBy == site.HoldByAnnouncement) {
			continue
		}
		pair := p.AnswerOf(h)
		switch {
		case except[string(h.Name)] && pair.Known():
			keep[h.ID] = pair
		case h.HoldBy == site.HoldByAnnouncement:
			release[h.ID] = wan.Pair{}
		default:
			continue
		}
		if !slices.Contains(zones, h.ZoneID) {
			zones = append(zones, h.ZoneID)
		}
	}
	return keep, release, zones
}
