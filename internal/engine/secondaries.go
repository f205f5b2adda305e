package engine

import (
	"context"
	"net/netip"
	"strings"
	"time"

	"github.com/miekg/dns"

	"inkpost.example/inkpost/internal/core/names"
)

// Secret implements authdns.Access.
func (e *Engine) Secret(keyName string) (algorithm, secret string, ok bool) {
	k, ok := e.record.signingKey(keyName)
	return k.Algorithm + ".", k.Secret, ok
}

// Unproven implements authdns.Access: those who look after the key's site are told.
func (e *Engine) Unproven(keyName string, from netip.Addr) {
	if k, ok := e.record.signingKey(keyName); ok && k.SiteID != 0 {
		if p, ok := e.record.site(int64(k.SiteID)); ok {
			e.NoteStranger(e.FirstLink(p.Code), "an update is signed with a wrong secret, or at a wrong time, in the name of key "+k.Name, from)
		}
	}
}

// MayTransfer implements authdns.Access: a zone goes to the hosts and to the key that it names, to nobody else.
func (e *Engine) MayTransfer(apex string, from netip.Addr, keyName string) bool {
	z, ok := e.record.zoneByApex(names.Name(strings.TrimSuffix(apex, ".")))
	if !ok {
		return false
	}
	if keyName != "" && z.TransferKey != "" && strings.TrimSuffix(keyName, ".") == z.TransferKey {
		return true
	}
	for _, p := range z.TransferTo {
		if p.Contains(from) {
			return true
		}
	}
	return false
}

const (
	tellAfter  = 50 * time.Millisecond // changes this close together are told of once
	tellTries  = 12                    // about five minutes, which is what RFC 1996 section 3.6 has in mind
	notifyWait = time.Minute           // the longest pause
)

// tellSecondaries has the secondaries of a zone told soon that it changed.
func (e *Engine) tellSecondaries(zoneID int64) {
	if len(e.record.zone(zoneID).Notify) == 0 {
		return
	}
	select {
	case e.tell <- zoneID:
	default: // so many are waiting that this one is among them, or the refresh timer brings it
	}
}

// runTell sends NOTIFY (RFC 1996) to the secondaries of zones that changed: one for all changes that come close together,
// again where it is not acknowledged.
func (e *Engine) runTell(ctx context.Context) {
	for {
		waiting := map[int64]bool{}
		select {
		case id := <-e.tell:
			waiting[id] = true
		case <-ctx.Done():
			return
		}
		timer := time.NewTimer(tellAfter)
	collect:
		for {
			select {
			case id := <-e.tell:
				waiting[id] = true
			case <-timer.C:
				break collect
			case <-ctx.Done():
				timer.Stop()
				return
			}
		}
		for id := range waiting {
			z := e.record.zone(id)
			for _, to := range z.Notify {
				go e.notify(ctx, z, to)
			}
		}
	}
}

func (e *Engine) notify(ctx context.Context, z names.Zone, to netip.AddrPort) {
	wait := 500 * time.Millisecond
	for try := range tellTries {
		if e.record.zone(z.ID).Serial != z.Serial { // it is told of a newer one
			return
		}
		m := new(dns.Msg).SetNotify(string(z.Apex) + ".")
		m.Answer = []dns.RR{soaOf(z)}
		client := dns.Client{Timeout: 2 * time.Second}
		if k, ok := e.record.signingKey(z.TransferKey); ok {
			m.SetTsig(k.Name+".", k.Algorithm+".", 300, e.now().Unix())
			client.TsigSecret = map[string]string{k.Name + ".": k.Secret}
		}
		reply, _, err := client.ExchangeContext(ctx, m, to.String())
		if err == nil && reply.Rcode == dns.RcodeSuccess {
			return
		}
		if err == nil {
			e.log.Warn("a secondary did not take our NOTIFY", "zone", z.Apex, "secondary", to, "answered", dns.RcodeToString[reply.Rcode])
			return
		}
		if try == tellTries-1 {
			e.log.Warn("a secondary cannot be told of changes; its refresh timer will bring them", "zone", z.Apex, "secondary", to, "error", err)
			return
		}
		select {
		case <-time.After(wait):
			wait = min(2*wait, notifyWait)
		case <-ctx.Done():
			return
		}
	}
}
