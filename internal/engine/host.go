package engine

import (
	"context"
	"time"

	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/site"
)

// Review implements siteside.Host and verify.Host.
func (e *Engine) Review(siteID int64) { e.faults.review(siteID) }

// Answered implements verify.Host.
func (e *Engine) Answered(siteID int64, at time.Time) { e.moves.Answered(siteID, at) }

// Seen implements verify.Host.
func (e *Engine) Seen(siteID int64, at time.Time) { e.moves.Seen(siteID, at) }

// Held implements verify.Host.
func (e *Engine) Held(h site.Hostname) bool {
	_, held := e.pushOf(h)
	return held
}

// LostIPv6 implements verify.Host.
func (e *Engine) LostIPv6(deviceID int64) bool { return e.SiteSide.LostIPv6(deviceID) }

// Repair implements verify.Host.
func (e *Engine) Repair(ctx context.Context, z names.Zone, h site.Hostname) error {
	return e.repair(ctx, z, h)
}
