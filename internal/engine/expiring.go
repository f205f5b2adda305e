package engine

import (
	"fmt"
	"time"

	"inkpost.example/inkpost/internal/core/notice"
)

// Expiring implements notices.Host.
func (e *Engine) Expiring(before time.Time) (out []notice.Expiry) {
	for _, p := range e.rooms.Record.Sites() {
		for _, s := range p.Services {
			shown := e.rooms.Prober.Status(s.ID).Shown
			if shown != nil && shown.Certificate != nil && !shown.Certificate.Expires.IsZero() && shown.Certificate.Expires.Before(before) {
				out = append(out, notice.Expiry{Site: p.Code, What: "the certificate of " + s.Name, At: shown.Certificate.Expires})
			}
			if !s.OpenUntil.IsZero() && s.OpenUntil.After(e.Now()) && s.OpenUntil.Before(before) {
				out = append(out, notice.Expiry{Site: p.Code, What: fmt.Sprintf("the opening of %s", s.Name), At: s.OpenUntil})
			}
		}
	}
	return out
}
