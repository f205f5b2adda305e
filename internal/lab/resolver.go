package lab

import (
	"context"
	"fmt"
	"sync"
	"sync/atomic"
	"time"

	"github.com/miekg/dns"
)

// Resolver is a stand-in for a provider's resolver, with a real cache: it asks one name server, keeps what that answers for
// as long as the TTL allows, and counts the TTL down in what it gives out.
type Resolver struct {
	upstream atomic.Value // the name server's "host:port"
	others   sync.Map     // zones with a final dot that another name server has, to its "host:port"
	servers  []*dns.Server
	at       string

	mu    sync.Mutex
	cache map[dns.Question]cached
}

type cached struct {
	reply *dns.Msg
	since time.Time
	until time.Time
}

// NewResolver starts a resolver on a free port of 127.0.0.1. It answers SERVFAIL until Ask has named a name server.
func NewResolver() (*Resolver, error) {
	u, l, err := bothPorts("127.0.0.1:0")
	if err != nil {
		return nil, fmt.Errorf("resolver: %w", err)
	}
	r := &Resolver{at: u.LocalAddr().String(), cache: map[dns.Question]cached{}}
	for _, s := range []*dns.Server{{PacketConn: u, Handler: r}, {Listener: l, Handler: r}} {
		r.servers = append(r.servers, s)
		started := make(chan struct{})
		s.NotifyStartedFunc = func() { close(started) }
		go func() { _ = s.ActivateAndServe() }()
		<-started
	}
	return r, nil
}

// Ask names the name server that the resolver asks, by its "host:port".
func (r *Resolver) Ask(server string) { r.upstream.Store(server) }

// AskFor names the name server of one zone.
func (r *Resolver) AskFor(zone, server string) { r.others.Store(dns.Fqdn(zone), server) }

// Addr is where the resolver answers.
func (r *Resolver) Addr() string { return r.at }

// Close stops the resolver.
func (r *Resolver) Close() {
	for _, s := range r.servers {
		_ = s.Shutdown()
	}
}

// ServeDNS implements dns.Handler.
func (r *Resolver) ServeDNS(w dns.ResponseWriter, m *dns.Msg) {
	reply := new(dns.Msg).SetReply(m)
	reply.RecursionAvailable = true
	if len(m.Question) != 1 {
		reply.Rcode = dns.RcodeFormatError
	} else if known, age := r.lookup(m.Question[0]); known == nil {
		reply.Rcode = dns.RcodeServerFailure
	} else {
		reply.Rcode = known.Rcode
		for _, rr := range known.Answer {
			rr = dns.Copy(rr)
			rr.Header().Ttl -= min(rr.Header().Ttl, age)
			reply.Answer = append(reply.Answer, rr)
		}
		for _, rr := range known.Ns { // who says that there is nothing
			if rr.Header().Rrtype == dns.TypeSOA {
				reply.Ns = append(reply.Ns, rr)
			}
		}
	}
	_ = w.WriteMsg(reply)
}

// lookup returns an answer out of the cache, or from upstream, and its age in seconds.
func (r *Resolver) lookup(q dns.Question) (reply *dns.Msg, age uint32) {
	now := time.Now()
	r.mu.Lock()
	c, ok := r.cache[q]
	r.mu.Unlock()
	if ok && now.Before(c.until) {
		return c.reply, uint32(now.Sub(c.since).Seconds())
	}
	upstream, known := r.upstream.Load().(string)
	if !known {
		return nil, 0
	}
	longest := -1 // the zone nearest to the name
	r.others.Range(func(zone, server any) bool {
		if n := len(zone.(string)); dns.IsSubDomain(zone.(string), q.Name) && n > longest {
			upstream, longest = server.(string), n
		}
		return true
	})
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
	defer cancel()
	ask := new(dns.Msg).SetQuestion(q.Name, q.Qtype)
	ask.RecursionDesired = false
	got, _, err := new(dns.Client).ExchangeContext(ctx, ask, upstream)
	if err != nil {
		return nil, 0
	}
	ttl := uint32(3600)
	for _, rr := range got.Answer {
		ttl = min(ttl, rr.Header().Ttl)
	}
	if len(got.Answer) == 0 { // negative answers have a time of their own (RFC 2308 section 5)
		ttl = 0
		for _, rr := range got.Ns {
			if soa, ok := rr.(*dns.SOA); ok {
				ttl = min(soa.Hdr.Ttl, soa.Minttl)
			}
		}
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.cache[q] = cached{reply: got, since: now, until: now.Add(time.Duration(ttl) * time.Second)}
	return got, 0
}
