package lab

import (
	"fmt"
	"net"
	"net/netip"
	"strings"
	"sync"

	"github.com/miekg/dns"
)

// Parent is a stand-in for the name server of the zone above others: it says who serves those (RFC 1034 section 4.2.2), and nothing else.
type Parent struct {
	zone    string
	at      netip.AddrPort
	servers []*dns.Server

	mu    sync.Mutex
	below map[string]map[string]netip.Addr // address by name server, by zone
}

// NewParent starts the name server of a zone at "host:port". It delegates nothing until Delegate is called.
func NewParent(address, zone string) (*Parent, error) {
	u, l, err := bothPorts(address)
	if err != nil {
		return nil, fmt.Errorf("parent zone: %w", err)
	}
	p := &Parent{zone: dns.Fqdn(zone), at: u.LocalAddr().(*net.UDPAddr).AddrPort(), below: map[string]map[string]netip.Addr{}}
	for _, s := range []*dns.Server{{PacketConn: u}, {Listener: l}} {
		started := make(chan struct{})
		s.Handler, s.NotifyStartedFunc = p, func() { close(started) }
		go func() { _ = s.ActivateAndServe() }()
		<-started
		p.servers = append(p.servers, s)
	}
	return p, nil
}

// Delegate enters who serves a zone below: name servers with their addresses. None takes the delegation away.
func (p *Parent) Delegate(zone string, servers map[string]netip.Addr) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.below[dns.Fqdn(strings.ToLower(zone))] = servers
}

// Addr is where the parent answers, as "host:port".
func (p *Parent) Addr() string { return p.at.String() }

// Close stops the parent.
func (p *Parent) Close() {
	for _, s := range p.servers {
		_ = s.Shutdown()
	}
}

// ServeDNS implements dns.Handler.
func (p *Parent) ServeDNS(w dns.ResponseWriter, m *dns.Msg) {
	reply := new(dns.Msg).SetReply(m)
	switch {
	case len(m.Question) != 1:
		reply.Rcode = dns.RcodeFormatError
	case !dns.IsSubDomain(p.zone, m.Question[0].Name):
		reply.Rcode = dns.RcodeRefused
	default:
		p.answer(reply, m.Question[0])
	}
	_ = w.WriteMsg(reply)
}

func (p *Parent) answer(reply *dns.Msg, q dns.Question) {
	p.mu.Lock()
	defer p.mu.Unlock()
	name, host := strings.ToLower(q.Name), "ns."+p.zone
	for zone, servers := range p.below {
		if !dns.IsSubDomain(zone, name) || len(servers) == 0 {
			continue
		}
		for server, at := range servers {
			reply.Ns = append(reply.Ns, &dns.NS{Hdr: head(zone, dns.TypeNS), Ns: dns.Fqdn(server)})
			reply.Extra = append(reply.Extra, &dns.A{Hdr: head(dns.Fqdn(server), dns.TypeA), A: at.AsSlice()})
		}
		return
	}
	reply.Authoritative = true
	soa := &dns.SOA{Hdr: head(p.zone, dns.TypeSOA), Ns: host, Mbox: "hostmaster." + p.zone, Serial: 1, Refresh: 3600, Retry: 300,
		Expire: 1209600, Minttl: 5}
	switch {
	case name == p.zone && q.Qtype == dns.TypeSOA:
		reply.Answer = []dns.RR{soa}
	case name == p.zone && q.Qtype == dns.TypeNS:
		reply.Answer = []dns.RR{&dns.NS{Hdr: head(p.zone, dns.TypeNS), Ns: host}}
	case name == host && q.Qtype == dns.TypeA:
		reply.Answer = []dns.RR{&dns.A{Hdr: head(host, dns.TypeA), A: p.at.Addr().AsSlice()}}
	default:
		reply.Ns = []dns.RR{soa}
		if name != p.zone && name != host {
			reply.Rcode = dns.RcodeNameError
		}
	}
}

func head(name string, kind uint16) dns.RR_Header {
	return dns.RR_Header{Name: name, Rrtype: kind, Class: dns.ClassINET, Ttl: 30}
}
