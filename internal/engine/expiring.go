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
			if c := e.rooms.Prober.Status(s.ID).Shown.Certificate; c != nil && !c.Expires.IsZero() && c.Expires.Before(before) {
				out = append(out, notice.Expiry{Site: p.Code, What: fmt.Sprintf("the certificate of %s", s.Name), At: c.Expires})
			}
			if !s.OpenUntil.IsZero() && s.OpenUntil.After(e.Now()) && s.OpenUntil.Before(before) {
				out = append(out, notice.Expiry{Site: p.Code, What: fmt.Sprintf("%s is open until then", s.Name), At: s.OpenUntil})
			}
		}
	}
	return out
}
