package faultedits

import (
	"time"

	"inkpost.example/inkpost/internal/core/notice"
)

// Expiring implements notices.Host.
func (e *FaultEdits) Expiring(before time.Time) (out []notice.Expiry) {
	for _, p := range e.Record.Sites() {
		ends := func(what string, at time.Time) {
			if !at.IsZero() && at.Before(before) {
				out = append(out, notice.Expiry{SiteID: p.ID, Site: p.Code, What: what, At: at})
			}
		}
		for _, s := range p.Services {
			if shown := e.Prober.Status(s.ID).Shown; shown != nil && shown.Certificate != nil {
				ends("the certificate of "+s.Name, shown.Certificate.Expires)
			}
			if s.OpenUntil.After(e.Now()) {
				ends("the opening of "+s.Name, s.OpenUntil)
			}
		}
	}
	return out
}
