package engine

import (
	"context"
	"net/netip"
	"time"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/engine/changes"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/engine/siteside"
	"inkpost.example/inkpost/internal/store"
)

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
	readdressed, err := e.rooms.SiteSide.NoteDevices(linkID, in.Scan, list)
	if err != nil || len(readdressed) == 0 {
		return err
	}
	p, _, _ := e.rooms.Record.SiteOfLink(linkID)
	return e.readdress(p, readdressed)
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
