package push

import (
	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/store"
)

// Kept returns what is known of a hostname at the primary of its zone; nothing where that is hosted here.
func (p *Pusher) Kept(h site.Hostname) (out []store.RemoteName) {
	z := p.record.Zone(h.ZoneID)
	if z.Kind != names.Remote {
		return nil
	}
	for _, owner := range h.Owners() {
		out = append(out, p.state.of(key{z.ID, owner}))
	}
	return out
}

// Show takes over what another server knows of names at primaries.
func (p *Pusher) Show(list []store.RemoteName) {
	for _, n := range list {
		p.state.put(n)
	}
}
