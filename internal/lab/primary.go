package lab

import (
	"fmt"
	"net"
	"net/netip"
	"strings"
	"sync"

	"github.com/miekg/dns"
)

// Primary is a stand-in for somebody else's primary server of one zone: it takes signed updates (RFC 2136) and answers from
// what it was told. It can be taken away and brought back, with its records.
type Primary struct {
	address, zone, key, secret string

	mu      sync.Mutex
	servers []*dns.Server
	records map[string]map[uint16][]dns.RR // by owner and type
	taken   map[string]bool                // names that are somebody else's: no update may change them
}

// NewPrimary starts a primary at "host:port" for a zone, whose names the holder of a TSIG key (hmac-sha256) may change.
func NewPrimary(address, zone, key, secret string) (*Primary, error) {
	p := &Primary{address: address, zone: dns.Fqdn(zone), key: dns.Fqdn(key), secret: secret, records: map[string]map[uint16][]dns.RR{},
		taken: map[string]bool{}}
	return p, p.SetRunning(true)
}

// SetRunning takes the primary away, or brings it back.
func (p *Primary) SetRunning(running bool) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	if running == (len(p.servers) > 0) {
		return nil
	}
	if !running {
		for _, s := range p.servers {
			_ = s.Shutdown()
		}
		p.servers = nil
		return nil
	}
	u, l, err := bothPorts(p.address)
	if err != nil {
		return fmt.Errorf("primary: %w", err)
	}
	p.address = u.LocalAddr().String()
	for _, s := range []*dns.Server{{PacketConn: u}, {Listener: l}} {
		s.Handler, s.TsigSecret = p, map[string]string{p.key: p.secret}
		s.MsgAcceptFunc = func(dns.Header) dns.MsgAcceptAction { return dns.MsgAccept } // updates as well
		started := make(chan struct{})
		s.NotifyStartedFunc = func() { close(started) }
		go func() { _ = s.ActivateAndServe() }()
		<-started
		p.servers = append(p.servers, s)
	}
	return nil
}

// SetTaken gives a name to somebody else, who has it lead to an address: updates of it are refused. An address that is not valid frees
// the name, without a record. It returns an error where the name is not in the primary's zone, or the address is not IPv4.
func (p *Primary) SetTaken(name string, address netip.Addr) error {
	owner := strings.ToLower(dns.Fqdn(name))
	if !dns.IsSubDomain(p.zone, owner) {
		return fmt.Errorf("%q is not in %s, the zone of the simulated primary", name, strings.TrimSuffix(p.zone, "."))
	}
	if address.IsValid() && !address.Is4() {
		return fmt.Errorf("%s is no IPv4 address", address)
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	delete(p.records, owner)
	if p.taken[owner] = address.IsValid(); address.IsValid() {
		p.records[owner] = map[uint16][]dns.RR{dns.TypeA: {&dns.A{Hdr: dns.RR_Header{Name: owner, Rrtype: dns.TypeA, Class: dns.ClassINET,
			Ttl: 5}, A: net.IP(address.AsSlice())}}}
	}
	return nil
}

// serverName is the name of the zone's only name server.
func (p *Primary) serverName() string { return "ns1." + p.zone }

// Addr is where the primary answers.
func (p *Primary) Addr() string { return p.address }

// ServeDNS implements dns.Handler.
func (p *Primary) ServeDNS(w dns.ResponseWriter, m *dns.Msg) {
	reply := new(dns.Msg).SetReply(m)
	reply.Authoritative = true
	switch {
	case len(m.Question) != 1:
		reply.Rcode = dns.RcodeFormatError
	case m.Opcode == dns.OpcodeUpdate:
		reply.Rcode = p.update(m, m.IsTsig() != nil && w.TsigStatus() == nil)
	case m.Opcode != dns.OpcodeQuery:
		reply.Rcode = dns.RcodeNotImplemented
	case !dns.IsSubDomain(p.zone, m.Question[0].Name):
		reply.Rcode, reply.Authoritative = dns.RcodeRefused, false
	default:
		p.answer(reply, m.Question[0])
	}
	if t := m.IsTsig(); t != nil && w.TsigStatus() == nil {
		reply.SetTsig(p.key, t.Algorithm, 300, int64(t.TimeSigned))
	}
	_ = w.WriteMsg(reply)
}

func (p *Primary) answer(reply *dns.Msg, q dns.Question) {
	p.mu.Lock()
	defer p.mu.Unlock()
	name := strings.ToLower(q.Name)
	soa := &dns.SOA{Hdr: dns.RR_Header{Name: p.zone, Rrtype: dns.TypeSOA, Class: dns.ClassINET, Ttl: 30}, Ns: p.serverName(),
		Mbox: "hostmaster.elsewhere.example.", Serial: 1, Refresh: 3600, Retry: 300, Expire: 1209600, Minttl: 5}
	for range 8 {
		own := map[uint16]dns.RR{}
		switch name {
		case p.zone:
			own[dns.TypeSOA], own[dns.TypeNS] = soa, &dns.NS{Hdr: head(p.zone, dns.TypeNS), Ns: p.serverName()}
		case p.serverName():
			if at, err := netip.ParseAddrPort(p.address); err == nil && at.Addr().Is4() {
				own[dns.TypeA] = &dns.A{Hdr: head(name, dns.TypeA), A: at.Addr().AsSlice()}
			}
		}
		if rr := own[q.Qtype]; rr != nil {
			reply.Answer = append(reply.Answer, rr)
			return
		}
		sets, there := p.records[name]
		if list := sets[q.Qtype]; len(list) > 0 {
			reply.Answer = append(reply.Answer, list...)
			return
		}
		alias := sets[dns.TypeCNAME]
		if len(alias) == 0 {
			if !there && name != p.zone && name != p.serverName() {
				reply.Rcode = dns.RcodeNameError
			}
			reply.Ns = append(reply.Ns, soa)
			return
		}
		reply.Answer = append(reply.Answer, alias...)
		name = strings.ToLower(alias[0].(*dns.CNAME).Target)
	}
}

func (p *Primary) update(m *dns.Msg, signed bool) int {
	if !signed {
		return dns.RcodeRefused
	}
	if strings.ToLower(m.Question[0].Name) != p.zone {
		return dns.RcodeNotAuth
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, rr := range m.Answer {
		h := rr.Header()
		if h.Class != dns.ClassNONE {
			return dns.RcodeNotImplemented // no more than our own side asks for
		}
		if len(p.records[strings.ToLower(h.Name)][h.Rrtype]) > 0 {
			return dns.RcodeYXRrset
		}
	}
	for _, rr := range m.Ns {
		if !dns.IsSubDomain(p.zone, rr.Header().Name) {
			return dns.RcodeNotZone
		}
		if p.taken[strings.ToLower(rr.Header().Name)] {
			return dns.RcodeRefused
		}
	}
	for _, rr := range m.Ns {
		h := rr.Header()
		name := strings.ToLower(h.Name)
		switch h.Class {
		case dns.ClassANY:
			delete(p.records[name], h.Rrtype)
			if len(p.records[name]) == 0 {
				delete(p.records, name)
			}
		case dns.ClassINET:
			if p.records[name] == nil {
				p.records[name] = map[uint16][]dns.RR{}
			}
			p.records[name][h.Rrtype] = append(p.records[name][h.Rrtype], rr)
		}
	}
	return dns.RcodeSuccess
}
