package demo

import (
	"context"
	"fmt"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/daemon"
)

// seed puts the scenario on record, as an installer would: zone, sites, links, hostnames, devices, services; and the
// history that they would have by now.
func seed(ctx context.Context, d *daemon.Daemon, list []place, probeSeconds int, server string) error {
	e := d.Engine
	if _, err := e.AddZone(ctx, contract.ZoneInput{Apex: zone, Contact: "hostmaster@saltmarsh.example", TTL: 30,
		Servers: []string{"ns1." + zone + "=" + server}}); err != nil {
		return err
	}
	for _, p := range list {
		if _, err := e.AddSite(ctx, contract.SiteInput{Code: p.code, Name: p.name, Note: p.note}); err != nil {
			return err
		}
		for _, l := range p.links {
			in := contract.LinkInput{Label: l.label, Provider: l.provider}
			if l.static {
				in.Mode, in.IPv4 = "static", l.first.String()
			}
			if _, err := e.AddLink(ctx, p.code, in); err != nil {
				return err
			}
		}
		for n, label := range p.hostnames {
			in := contract.HostnameInput{Name: label + "." + zone, Site: p.code}
			if n > 0 && len(p.links) > 1 {
				in.Link = p.links[0].label
			}
			if _, err := e.AddHostname(ctx, in); err != nil {
				return err
			}
		}
	}
	if err := pastMoves(ctx, d, list); err != nil {
		return fmt.Errorf("the moves of the past: %w", err)
	}
	if err := e.Reload(ctx); err != nil {
		return err
	}
	for i, p := range list {
		for n, m := range p.devices {
			if _, err := e.AddDevice(ctx, p.code, contract.DeviceInput{Name: m.name, MAC: m.mac, Address: lan(i, n).String(), Reserved: m.reserved}); err != nil {
				return err
			}
			for _, s := range m.services {
				in := contract.ServiceInput{Name: s.name, Device: m.name, External: port(s.external), Internal: port(inner(s.internal)), Interval: probeSeconds}
				if s.closed {
					in.Expected = "closed"
				}
				if _, err := e.AddService(ctx, p.code, in); err != nil {
					return err
				}
			}
		}
	}
	return pastSpans(ctx, d, list)
}
