package engine

import (
	"context"
	"net/netip"
	"time"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/engine/siteside"
	"inkpost.example/inkpost/internal/store"
)

// AgentTasks returns what the agent of a link is to do. While that is what it has already, it waits for something new until ctx ends.
func (e *Engine) AgentTasks(ctx context.Context, linkID int64, have string) (contract.Orders, error) {
	t, err := e.SiteSide.Tasks(ctx, linkID, have)
	if err != nil {
		return contract.Orders{}, err
	}
	out := contract.Orders{Version: t.Version, Watch: []contract.WatchItem{}, Every: e.config.WatchEvery.Seconds(), Look: t.Scan, Check: t.Check}
	for _, d := range t.Watch {
		one := contract.WatchItem{Device: d.Name, MAC: d.MAC, Address: d.Address.String(), WantIPv6: d.WantIPv6, IPv6: addressText(d.IPv6)}
		for _, p := range d.Ports {
			one.Ports = append(one.Ports, contract.WatchPort{Service: p.Service, Transport: string(p.Transport), Port: p.Port})
		}
		out.Watch = append(out.Watch, one)
	}
	for _, p := range t.Proofs {
		out.Proofs = append(out.Proofs, contract.ProofOrder{ID: p.ID, Transport: string(p.Transport), Port: p.Port, Nonce: p.Nonce, Seconds: p.For.Seconds()})
	}
	return out, nil
}

// NoteDevices takes in what an agent saw of the devices on record. What is not on record is passed over. Error: ErrLinkGone.
func (e *Engine) NoteDevices(linkID int64, in contract.LANReport) error {
	var list []siteside.DeviceReport
	for _, s := range in.Sightings {
		one := siteside.DeviceReport{Device: s.Device, Present: s.Present, MAC: s.MAC}
		one.Found, _ = netip.ParseAddr(s.Found)
		one.IPv6, _ = netip.ParseAddr(s.IPv6)
		for _, p := range s.Ports {
			one.Ports = append(one.Ports, siteside.PortSeen(p))
		}
		list = append(list, one)
	}
	readdressed, err := e.SiteSide.NoteDevices(linkID, in.Look, list)
	if err != nil || len(readdressed) == 0 {
		return err
	}
	p, _, _ := e.record.SiteOfLink(linkID)
	return e.readdress(p, readdressed)
}

// readdress records devices' IPv6 addresses, and makes the hostnames that name them answer those.
func (e *Engine) readdress(p record.Site, six map[int64]netip.Addr) error {
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	return e.change(ctx, func() (edit, error) {
		p, ok := e.record.Site(p.ID)
		if !ok {
			return edit{}, ErrLinkGone
		}
		return edit{site: p.Code, words: "devices of " + p.Code + " have other IPv6 addresses", write: func(ctx context.Context, tx *store.Store) error {
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

// DeviceReports returns what was last seen of a site's devices.
func (e *Engine) DeviceReports(code string) ([]contract.Sighting, error) {
	p, err := e.premises(code)
	out := []contract.Sighting{}
	for _, d := range p.Devices {
		if r, ok := e.SiteSide.Device(d.ID); ok {
			r.Device = d.Name
			out = append(out, deviceReportView(r))
		}
	}
	return out, err
}

func deviceReportView(r siteside.DeviceReport) contract.Sighting {
	out := contract.Sighting{Device: r.Device, Present: r.Present, Found: addressText(r.Found), IPv6: addressText(r.IPv6), MAC: r.MAC, At: r.At, Hours: r.Hours,
		Without: r.WithoutIPv6}
	for _, p := range r.Ports {
		out.Ports = append(out.Ports, contract.PortSeen(p))
	}
	return out
}

// Scan makes an agent of the site look at its devices now. Error: ErrNoAgent.
func (e *Engine) Scan(ctx context.Context, code string) ([]contract.Sighting, error) {
	p, err := e.premises(code)
	if err != nil {
		return nil, err
	}
	if err := e.SiteSide.Scan(ctx, p.ID); err != nil {
		return nil, err
	}
	return e.DeviceReports(code)
}

// linkReportView is what is known of a link from its site's side; nil when nothing is.
func (e *Engine) linkReportView(linkID int64) *contract.LinkStanding {
	r, ok := e.SiteSide.Report(linkID)
	if !ok {
		return nil
	}
	out := &contract.LinkStanding{NAT: r.NAT.Verdict, Words: r.NAT.Words, Remedies: r.NAT.Remedies, Router: addressText(r.NAT.RouterWAN), Reason: r.Reason, Held: r.Held,
		Agent: r.Agent, Protocol: r.Protocol, Resolver: r.Resolver, Cannot: r.Cannot, Reported: r.Reported, Rhythm: r.Rhythm.Seconds(),
		OwnIPv4: r.Own.IPv4, OwnIPv6: r.Own.IPv6}
	for _, hop := range r.NAT.Chain {
		out.Chain = append(out.Chain, hop.String())
	}
	for _, one := range r.Sources {
		out.Sources = append(out.Sources, contract.LinkSource{Source: one.Source, Via: one.Via, Addresses: one.Addresses.String(), At: one.At, Problem: one.Problem, Dissent: one.Dissent})
	}
	for _, one := range r.Refused {
		out.Refused = append(out.Refused, contract.Refusal{Reason: one.Reason, From: addressText(one.From), Count: one.Count, Stranger: one.Stranger, First: one.First, Last: one.Last})
	}
	return out
}
