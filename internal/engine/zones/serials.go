package zones

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"github.com/miekg/dns"

	"inkpost.example/inkpost/internal/core/names"
)

// serialsEvery is how often secondaries are asked for their serials, and serialWait how long one may take.
const serialsEvery, serialWait = 10 * time.Minute, time.Second

// runSerials asks the secondaries of hosted zones for their serials, so that a zone whose serial went back, as after a restore of the
// database, is noticed even where this machine's copy is gone too.
func (z *Zones) runSerials(ctx context.Context) {
	tick := time.NewTicker(serialsEvery)
	defer tick.Stop()
	for {
		if err := z.compareSerials(ctx); err != nil && ctx.Err() == nil {
			z.log.Warn("the serials of secondaries could not be compared; retrying", "error", err)
		}
		select {
		case <-tick.C:
		case <-ctx.Done():
			return
		}
	}
}

func (z *Zones) compareSerials(ctx context.Context) error {
	seen, where := map[string]uint32{}, ""
	for _, zone := range z.record.Zones() {
		if zone.Kind == names.Remote {
			continue
		}
		for _, at := range slices.Concat(zone.Notify, zone.AlsoAsk) {
			serial, err := serialAt(ctx, zone.Apex, at)
			newest, known := seen[string(zone.Apex)]
			if err == nil && (!known || names.SerialAfter(serial, newest)) {
				seen[string(zone.Apex)], where = serial, at.String()
			}
		}
	}
	behind := slices.ContainsFunc(z.record.Zones(), func(zone names.Zone) bool {
		was, known := seen[string(zone.Apex)]
		return known && names.SerialAfter(was, zone.Serial)
	})
	if !behind {
		return nil
	}
	return z.host.RaiseSerials(ctx, seen, where)
}

// serialAt asks a server for the serial that it has of a zone.
func serialAt(ctx context.Context, apex names.Name, at netip.AddrPort) (uint32, error) {
	client := dns.Client{Timeout: serialWait}
	m := new(dns.Msg).SetQuestion(string(apex)+".", dns.TypeSOA)
	m.RecursionDesired = false
	reply, _, err := client.ExchangeContext(ctx, m, at.String())
	if err != nil {
		return 0, err
	}
	for _, rr := range reply.Answer {
		if soa, ok := rr.(*dns.SOA); ok && reply.Authoritative {
			return soa.Serial, nil
		}
	}
	return 0, fmt.Errorf("%s does not have zone %s", at, apex)
}
