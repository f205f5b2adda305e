package zones

import (
	"context"
	"net/netip"
	"strings"
	"time"

	"github.com/miekg/dns"

	"inkpost.example/inkpost/internal/core/names"
)

// MayTransfer reports whether a zone may be transferred to a host: one that it lists, or one that signs with the key that it names.
func (z *Zones) MayTransfer(apex string, from netip.Addr, keyName string) bool {
	zone, ok := z.record.ZoneByApex(names.Name(strings.TrimSuffix(apex, ".")))
	if !ok {
		return false
	}
	if keyName != "" && zone.TransferKey != "" && strings.TrimSuffix(keyName, ".") == zone.TransferKey {
		return true
	}
	for _, p := range zone.TransferTo {
		if p.Contains(from) {
			return true
		}
	}
	return false
}

const (
	notifyDelay   = 50 * time.Millisecond // changes this close together share one NOTIFY
	notifyTries   = 12                    // over about five minutes, as RFC 1996 section 3.6 suggests
	maxNotifyWait = time.Minute           // the longest pause between two tries
)

// tellSecondaries sends NOTIFY to the secondaries of a zone soon.
func (z *Zones) tellSecondaries(zone names.Zone) {
	if len(zone.Notify) == 0 {
		return
	}
	select {
	case z.notify <- zone.ID:
	default: // so many are waiting that this one is among them, or the refresh timer brings it
	}
}

// runNotify sends NOTIFY (RFC 1996) to the secondaries of zones that changed: one for all changes that come close together, again if it is
// not acknowledged.
func (z *Zones) runNotify(ctx context.Context) {
	for {
		waiting := map[int64]bool{}
		select {
		case id := <-z.notify:
			waiting[id] = true
		case <-ctx.Done():
			return
		}
		timer := time.NewTimer(notifyDelay)
	collect:
		for {
			select {
			case id := <-z.notify:
				waiting[id] = true
			case <-timer.C:
				break collect
			case <-ctx.Done():
				timer.Stop()
				return
			}
		}
		for id := range waiting {
			zone := z.record.Zone(id)
			for _, to := range zone.Notify {
				go z.sendNotify(ctx, zone, to)
			}
		}
	}
}

func (z *Zones) sendNotify(ctx context.Context, zone names.Zone, to netip.AddrPort) {
	wait := 500 * time.Millisecond
	for try := range notifyTries {
		if z.record.Zone(zone.ID).Serial != zone.Serial { // a later NOTIFY tells of a newer one
			return
		}
		m := new(dns.Msg).SetNotify(string(zone.Apex) + ".")
		m.Answer = []dns.RR{soaOf(zone)}
		client := dns.Client{Timeout: 2 * time.Second}
		if k, ok := z.record.SigningKey(zone.TransferKey); ok {
			m.SetTsig(k.Name+".", k.Algorithm+".", 300, z.now().Unix())
			client.TsigSecret = map[string]string{k.Name + ".": k.Secret}
		}
		reply, _, err := client.ExchangeContext(ctx, m, to.String())
		if err == nil && reply.Rcode == dns.RcodeSuccess {
			return
		}
		if err == nil {
			z.log.Warn("a secondary refused NOTIFY", "zone", zone.Apex, "secondary", to, "answered", dns.RcodeToString[reply.Rcode])
			return
		}
		if try == notifyTries-1 {
			z.log.Warn("a secondary does not answer NOTIFY; its refresh timer will bring the change", "zone", zone.Apex, "secondary",
				to, "error", err)
			return
		}
		select {
		case <-time.After(wait):
			wait = min(2*wait, maxNotifyWait)
		case <-ctx.Done():
			return
		}
	}
}
