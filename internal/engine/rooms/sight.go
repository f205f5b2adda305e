package rooms

import (
	"context"

	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/team"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/store"
)

type sightKey struct{}

// WithSight attaches to ctx whose sites whoever asks sees; without it, all are seen.
func WithSight(ctx context.Context, s team.Sight) context.Context {
	return context.WithValue(ctx, sightKey{}, s)
}

// SightOf is whose sites whoever asks sees.
func SightOf(ctx context.Context) team.Sight {
	s, _ := ctx.Value(sightKey{}).(team.Sight)
	return s
}

// SitesSeen lists the sites that whoever asks sees.
func (r *Rooms) SitesSeen(ctx context.Context) []record.Site {
	sight, all := SightOf(ctx), r.Record.Sites()
	if sight.All() {
		return all
	}
	out := []record.Site{}
	for _, p := range all {
		if sight.Sees(p.Tags) {
			out = append(out, p)
		}
	}
	return out
}

// IDsSeen lists the IDs of the sites that whoever asks sees; nil stands for all.
func (r *Rooms) IDsSeen(ctx context.Context) []int64 {
	if SightOf(ctx).All() {
		return nil
	}
	ids := []int64{}
	for _, p := range r.SitesSeen(ctx) {
		ids = append(ids, p.ID)
	}
	return ids
}

// Sees reports whether whoever asks sees a site, by its ID.
func (r *Rooms) Sees(ctx context.Context, siteID int64) bool {
	sight := SightOf(ctx)
	if sight.All() {
		return true
	}
	p, ok := r.Record.Site(siteID)
	return ok && sight.Sees(p.Tags)
}

// SeesNamed reports whether whoever asks sees the site of a hostname.
func (r *Rooms) SeesNamed(ctx context.Context, hostname names.Name) bool {
	p, _, _ := r.Record.HostnameAt(hostname)
	return r.Sees(ctx, p.ID)
}

// SiteSeen finds a site by its code. One that whoever asks does not see is not there. Error: store.Missing.
func (r *Rooms) SiteSeen(ctx context.Context, code string) (record.Site, error) {
	p, err := r.FindSite(code)
	if err == nil && !r.Sees(ctx, p.ID) {
		err = store.Missing{Kind: "site", Name: code}
	}
	return p, err
}
