package engine

import (
	"context"
	"encoding/json"
	"errors"
	"net/netip"
	"time"

	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/probing"
	"inkpost.example/inkpost/internal/engine/probing/result"
	"inkpost.example/inkpost/internal/engine/shards"
)

// Review implements siteside.Host and verify.Host.
func (e *Engine) Review(siteID int64) {
	e.rooms.Marks.Note(siteID)
	e.rooms.Faults.Review(siteID)
}

// Answered implements verify.Host.
func (e *Engine) Answered(siteID int64, at time.Time) { e.rooms.Moves.Answered(siteID, at) }

// Seen implements verify.Host.
func (e *Engine) Seen(siteID int64, at time.Time) { e.rooms.Moves.Seen(siteID, at) }

// Held implements verify.Host.
func (e *Engine) Held(h site.Hostname) bool {
	_, held := e.rooms.Push.Of(h)
	return held
}

// LostIPv6 implements verify.Host.
func (e *Engine) LostIPv6(deviceID int64) bool { return e.rooms.SiteSide.LostIPv6(deviceID) }

// Repair implements verify.Host.
func (e *Engine) Repair(ctx context.Context, z names.Zone, h site.Hostname) error {
	return e.rooms.Push.Repair(ctx, z, h)
}

// Taken implements push.Host: the site's moves are published in a zone once its primary has all their names, and the primary is asked
// whether it answers them.
func (e *Engine) Taken(h site.Hostname, zoneID int64, at time.Time, done bool) {
	e.rooms.Verify.Published(h.ID, at)
	if done {
		e.rooms.Moves.Published(h.SiteID, zoneID, at)
	}
	e.Review(h.SiteID)
	e.rooms.Verify.Ask(h.SiteID)
}

// Retain implements push.Host.
func (e *Engine) Retain(ctx context.Context) error {
	err := e.rooms.History.Retain(ctx)
	n, forgetting := e.rooms.Store.ForgetActs(ctx, e.Now().Add(-auditKept))
	if n > 0 {
		e.rooms.Log.Info("old rows of the audit trail dropped", "rows", n)
	}
	_, removing := e.rooms.Store.ForgetRemoved(ctx, e.Now())
	return errors.Join(err, forgetting, removing)
}

// auditKept is how long it is known who did what.
const auditKept = 2 * 365 * 24 * time.Hour

// LastHeard implements probing.Host.
func (e *Engine) LastHeard(l site.Link) time.Time { return e.rooms.SiteSide.LastHeard(l) }

// AnnouncesEvery implements probing.Host.
func (e *Engine) AnnouncesEvery(l site.Link) time.Duration { return e.rooms.SiteSide.AnnouncesEvery(l) }

// Tenancy implements probing.Host.
func (e *Engine) Tenancy(l site.Link) probe.Tenancy { return e.rooms.SiteSide.Tenancy(l) }

// ScanDevices implements probing.Host.
func (e *Engine) ScanDevices(siteID int64) { e.rooms.SiteSide.ScanSoon(siteID) }

// TryWayIn implements probing.Host.
func (e *Engine) TryWayIn(s site.Service, l site.Link) { e.rooms.Proofs.Want(s, l) }

// CheckAddress implements probing.Host.
func (e *Engine) CheckAddress(linkID int64) { e.rooms.SiteSide.CheckAddress(linkID) }

// Confirmed implements probing.Host.
func (e *Engine) Confirmed(linkID, serviceID int64, at time.Time) {
	e.rooms.Moves.Confirmed(linkID, serviceID, at)
}

// ConfirmElsewhere implements probing.Host.
func (e *Engine) ConfirmElsewhere(serviceID, seenBy int64) {
	e.rooms.Vantages.ConfirmElsewhere(serviceID, seenBy)
}

// AssignmentsChanged implements probing.Host.
func (e *Engine) AssignmentsChanged(siteID int64) { e.rooms.Vantages.AssignmentsChanged(siteID) }

// Ailing implements probing.Host.
func (e *Engine) Ailing() map[int64]string { return e.rooms.Vantages.Ailing() }

// VantageName implements probing.Host.
func (e *Engine) VantageName(id int64) string { return e.rooms.Vantages.Name(id) }

// Lend implements probing.Host.
func (e *Engine) Lend(s site.Service, at netip.Addr, byName bool) probing.Awaited {
	loan, ok := e.rooms.Shards.Lend(s.SiteID, shards.Order{ServiceID: s.ID, Revision: s.Revision, Address: at, ByName: byName})
	if !ok {
		return nil
	}
	return func(ctx context.Context) (r result.Round, ok bool) {
		answer, ok := loan.Await(ctx)
		if !ok {
			return r, false
		}
		if err := json.Unmarshal(answer.Doc, &r); err != nil {
			e.rooms.Log.Warn("what another server says of a round cannot be read; it is made here", "error", err)
			return r, false
		}
		r.At = e.rooms.Now().Add(-max(0, answer.Age)) // its clock may be another
		if r.Named != nil {
			r.Named.At = r.At
		}
		return r, true
	}
}
