package demo

import (
	"context"
	"fmt"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/engine"
)

// seed puts the scenario on record, as an installer would: zone, sites, links, hostnames, devices, services; and the
// history that they would have by now.
func seed(ctx context.Context, d *Demo, list []place, probeSeconds int, server string) error {
	e := d.Engine()
	if _, err := e.AddZone(ctx, contract.ZoneInput{Apex: zone, Contact: "hostmaster@saltmarsh.example", TTL: 30, Template: "{code}." + zone,
		Servers: []string{"ns1." + zone + "=" + server}}); err != nil {
		return err
	}
	for _, p := range list {
		if _, err := e.AddSite(ctx, contract.SiteInput{Code: p.code, Name: p.name, Note: p.note, Tags: tags[p.code]}); err != nil {
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
	if err := otherNames(ctx, e); err != nil {
		return err
	}
	if err := pastMoves(ctx, d.Daemon, list); err != nil {
		return fmt.Errorf("the moves of the past: %w", err)
	}
	if err := e.Reload(ctx); err != nil {
		return err
	}
	for i, p := range list {
		for n, m := range p.devices {
			if m.services[0].unpacked {
				continue
			}
			if _, err := e.AddDevice(ctx, p.code, contract.DeviceInput{Name: m.name, MAC: m.mac, Address: lan(i, n).String(),
				Reserved: m.reserved}); err != nil {
				return err
			}
			for _, s := range m.services {
				in := contract.ServiceInput{Name: s.name, Device: m.name, External: port(s.external),
					Internal: port(inner(s.internal)), Interval: probeSeconds}
				in.Kind, in.Transport = string(s.kind), string(s.over)
				if s.closed {
					in.Expected = "closed"
				}
				if s.kind == probe.KindWireGuard {
					in.Options.PeerKey = d.World.StaticKey(p.code, s.name)
				}
				if _, err := e.AddService(ctx, p.code, in); err != nil {
					return err
				}
			}
		}
	}
	if err := pastSpans(ctx, d.Daemon, list); err != nil {
		return err
	}
	return e.Reload(ctx)
}

// otherNames records what stands beside the sites' own names: a remote zone that is pushed to its primary, aliases,
// redirects, a record.
func otherNames(ctx context.Context, e *engine.Engine) error {
	if _, err := e.AddSigningKey(ctx, contract.SigningKeyInput{Name: pushKey, Secret: pushSecret}); err != nil {
		return err
	}
	if _, err := e.AddZone(ctx, contract.ZoneInput{Apex: remoteZone, Kind: string(names.Remote), Primary: primaryAt,
		PrimaryKey: pushKey}); err != nil {
		return err
	}
	for _, in := range []contract.HostnameInput{{Name: "tickets." + remoteZone, Site: "FER-11"},
		{Name: "slip." + remoteZone, Site: "BOA-09", Extras: []string{"www"}}} {
		if _, err := e.AddHostname(ctx, in); err != nil {
			return err
		}
	}
	for _, in := range []contract.AliasInput{{Name: "museum." + zone, Hostname: "ket-07." + zone},
		{Name: "ferry." + zone, Hostname: "fer-11." + zone}, {Name: "kiosk." + remoteZone, Hostname: "tickets." + remoteZone}} {
		if _, err := e.AddAlias(ctx, in); err != nil {
			return err
		}
	}
	for _, in := range []contract.RedirectInput{
		{Name: "museum-view." + zone, Hostname: "ket-07." + zone, Scheme: "https", Port: 8443, Path: "/live"},
		{Name: "club." + zone, Hostname: "rad-06." + zone, Port: 8080, KeepPath: true},
	} {
		if _, err := e.AddRedirect(ctx, in); err != nil {
			return err
		}
	}
	if _, err := e.AddZoneRecord(ctx, zone, contract.RecordInput{Name: zone, Type: "TXT", Data: `"v=spf1 -all"`}); err != nil {
		return err
	}
	_, err := e.PushZone(ctx, remoteZone)
	return err
}
