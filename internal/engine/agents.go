package engine

import (
	"context"
	"math"
	"net/netip"
	"time"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/changes"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/engine/siteside"
	"inkpost.example/inkpost/internal/store"
)

// Prove has an agent of a site listen, and sends to it. Errors: those of proofs.Prove.
func (e *Engine) Prove(ctx context.Context, code string, in contract.ProofInput) (contract.Proof, error) {
	p, err := e.rooms.FindSite(code)
	if err != nil {
		return contract.Proof{}, err
	}
	return e.rooms.Proofs.Prove(ctx, p, in)
}

// NoteDevices takes in what an agent saw of the devices on record. What is not on record is passed over. Error: changes.ErrLinkGone.
func (e *Engine) NoteDevices(linkID int64, in contract.LANReport) error {
	var list []siteside.DeviceReport
	for _, s := range in.Devices {
		one := siteside.DeviceReport{Device: s.Device, Present: s.Present, Unsure: s.Unsure, MAC: s.MAC}
		one.Found, _ = netip.ParseAddr(s.Found)
		one.IPv6, _ = netip.ParseAddr(s.IPv6)
		for _, p := range s.Ports {
			one.Ports = append(one.Ports, siteside.PortSeen(p))
		}
		list = append(list, one)
	}
	if in.Gateway != nil {
		if err := e.rooms.SiteSide.NoteRouter(linkID, routerWord(*in.Gateway, e.rooms.Now())); err != nil {
			return err
		}
	}
	readdressed, err := e.rooms.SiteSide.NoteDevices(linkID, in.Scan, list)
	if err != nil || len(readdressed) == 0 {
		return err
	}
	p, _, _ := e.rooms.Record.SiteOfLink(linkID)
	return e.readdress(p, readdressed)
}

// routerWord reads what an agent says of its router. Lengths of time become times of this server.
func routerWord(in contract.GatewayWord, now time.Time) site.RouterWord {
	ago := func(seconds float64) time.Time {
		if !(seconds > 0 && seconds < math.MaxUint32) {
			return time.Time{}
		}
		return now.Add(-time.Duration(seconds * float64(time.Second)))
	}
	w := site.RouterWord{At: now, Began: ago(in.UpSeconds), LineUp: ago(in.LineUpSeconds), Line: in.Line, Trouble: in.Trouble,
		Ports: map[string]site.ListedPort{}}
	for _, p := range in.Ports {
		one := site.ListedPort{Description: p.Description}
		one.To, _ = netip.ParseAddrPort(p.To)
		if p.LeaseSeconds > 0 && p.LeaseSeconds < math.MaxUint32 {
			one.Lease = time.Duration(p.LeaseSeconds * float64(time.Second))
		}
		w.Ports[p.Service] = one
	}
	return w
}

// readdress records devices' IPv6 addresses, and makes the hostnames that name them answer those.
func (e *Engine) readdress(p record.Site, six map[int64]netip.Addr) error {
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	return e.Change(ctx, func() (changes.Edit, error) {
		p, ok := e.rooms.Record.Site(p.ID)
		if !ok {
			return changes.Edit{}, changes.ErrLinkGone
		}
		return changes.Edit{Site: p.Code, Words: "devices of " + p.Code + " have other IPv6 addresses",
			Write: func(ctx context.Context, tx *store.Store) error {
				for id, a := range six {
					if err := tx.NoteDeviceIPv6(ctx, id, a); err != nil {
						return err
					}
				}
				_, err := tx.BumpSerials(ctx, p.ZoneIDs())
				return err
			}}, nil
	})
}
