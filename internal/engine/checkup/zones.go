package checkup

import (
	"context"
	"net"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/miekg/dns"

	"inkpost.example/inkpost/internal/core/checkup"
	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/wire/dnsask"
)

func surveyorOf(resolvers ...string) dnsask.Surveyor { return dnsask.Surveyor{Resolvers: resolvers} }

// surveyor asks the resolvers that are set, else those of the machine.
func (r *Room) surveyor() dnsask.Surveyor {
	s := surveyorOf(r.Resolvers...)
	s.Port = r.Installation.ZonePort
	if len(s.Resolvers) == 0 {
		if c, err := dns.ClientConfigFromFile("/etc/resolv.conf"); err == nil {
			for _, host := range c.Servers {
				s.Resolvers = append(s.Resolvers, net.JoinHostPort(host, c.Port))
			}
		}
	}
	return s
}

// zones asks the parents of our zones and their name servers, a few zones at a time.
func (r *Room) zones(ctx context.Context) (out []checkup.Point) {
	list := r.Record.Zones()
	slices.SortFunc(list, func(a, b names.Zone) int { return strings.Compare(string(a.Apex), string(b.Apex)) })
	found := make([][]checkup.Point, len(list))
	turns := make(chan bool, 8)
	var wg sync.WaitGroup
	for i, z := range list {
		turns <- true
		wg.Go(func() {
			defer func() { <-turns }()
			found[i] = r.zone(ctx, z)
		})
	}
	wg.Wait()
	if len(list) == 0 {
		return []checkup.Point{checkup.NoZones()}
	}
	return slices.Concat(found...)
}

// settle is how long a secondary may take to fetch a change, before its serial is taken for an old one.
const settle = 3 * time.Second

func (r *Room) zone(ctx context.Context, z names.Zone) []checkup.Point {
	s := r.surveyor()
	out := checkup.Zonal{Apex: string(z.Apex), Ours: z.Kind == names.Hosted, Glue: map[string][]string{}}
	for _, n := range z.Servers {
		if out.Ours {
			out.Names = append(out.Names, string(n.Name))
		}
		for _, a := range n.Addresses {
			out.Glue[string(n.Name)] = append(out.Glue[string(n.Name)], a.String())
		}
	}
	var err error
	if out.Parent, out.From, err = s.Parent(ctx, z.Apex); err != nil {
		out.Trouble = err.Error()
	}
	out.Serial, out.Servers = r.served(ctx, s, z, out)
	behind := func(one checkup.Served) bool { return one.Authoritative && names.SerialAfter(out.Serial, one.Serial) }
	if slices.ContainsFunc(out.Servers, behind) {
		select {
		case <-time.After(settle):
			// Ours may have moved on meanwhile: what counts is whether they have what we had then.
			_, again := r.served(ctx, s, z, out)
			for i, one := range again {
				if names.SerialAfter(one.Serial, out.Serial) && i < len(out.Servers) {
					one.Serial = out.Serial
				}
				out.Servers[i] = one
			}
		case <-ctx.Done():
		}
	}
	return out.Judge()
}

// served asks each name server of a zone what it has, and says which serial we have.
func (r *Room) served(ctx context.Context, s dnsask.Surveyor, z names.Zone, known checkup.Zonal) (serial uint32, out []checkup.Served) {
	hosts := known.Names
	if !known.Ours {
		primary := dnsask.ServedAt(ctx, "primary", z.Primary.String(), z.Apex)
		hosts, out = primary.Names, append(out, primary)
	} else {
		serial = r.Record.Zone(z.ID).Serial
	}
	type one struct{ host, address, trouble string }
	var list []one
	for _, host := range hosts {
		addresses := known.Glue[host]
		if len(addresses) == 0 {
			var err error
			if addresses, err = s.Addresses(ctx, host); err != nil || len(addresses) == 0 {
				words := "it has no address"
				if err != nil {
					words = err.Error()
				}
				list = append(list, one{host: host, trouble: words})
			}
		}
		for _, a := range addresses {
			list = append(list, one{host: host, address: a})
		}
	}
	asked := make([]checkup.Served, len(list))
	var wg sync.WaitGroup
	for i, o := range list {
		asked[i] = checkup.Served{Server: o.host, Trouble: o.trouble}
		if o.trouble == "" {
			wg.Go(func() { asked[i] = s.Served(ctx, o.host, o.address, z.Apex) })
		}
	}
	wg.Wait()
	return serial, append(out, asked...)
}
