// Package dnsask asks one name server one question (RFC 1035 section 4).
package dnsask

import (
	"context"
	"fmt"
	"net/netip"
	"strings"
	"time"

	"github.com/miekg/dns"

	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/wan"
)

// Kind of the server that is asked.
type Kind bool

// Authoritative servers answer from their zones; resolvers are asked to look further (RFC 1035 section 4.1.1, RD).
const (
	Authoritative Kind = false
	Resolver      Kind = true
)

// Addresses asks server ("host:port", or "host:port/tcp" for TCP alone) for the A and AAAA records of name, first over UDP, over TCP where the answer was
// cut short. A family without a record is zero in the result. It returns an error where the server does not answer,
// or answers with anything but "no error" or "no such name".
func Addresses(ctx context.Context, server string, kind Kind, name names.Name) (wan.Pair, error) {
	var p wan.Pair
	for _, qtype := range []uint16{dns.TypeA, dns.TypeAAAA} {
		reply, err := exchange(ctx, server, kind, name, qtype)
		if err != nil {
			return wan.Pair{}, err
		}
		for _, rr := range reply.Answer {
			switch rr := rr.(type) {
			case *dns.A:
				if a, ok := netip.AddrFromSlice(rr.A.To4()); ok {
					p.IPv4 = a
				}
			case *dns.AAAA:
				if a, ok := netip.AddrFromSlice(rr.AAAA.To16()); ok {
					p.IPv6 = a
				}
			}
		}
	}
	return p, nil
}

func exchange(ctx context.Context, server string, kind Kind, name names.Name, qtype uint16) (*dns.Msg, error) {
	m := new(dns.Msg).SetQuestion(string(name)+".", qtype)
	m.RecursionDesired = bool(kind)
	client := dns.Client{Timeout: 2 * time.Second}
	address, overTCP := strings.CutSuffix(server, "/tcp")
	if overTCP {
		client.Net = "tcp"
	}
	reply, _, err := client.ExchangeContext(ctx, m, address)
	if err == nil && reply.Truncated {
		client.Net = "tcp"
		reply, _, err = client.ExchangeContext(ctx, m, address)
	}
	if err != nil {
		return nil, fmt.Errorf("ask %s for %s: %w", server, name, err)
	}
	if reply.Rcode != dns.RcodeSuccess && reply.Rcode != dns.RcodeNameError {
		return nil, fmt.Errorf("ask %s for %s: it answered %s", server, name, dns.RcodeToString[reply.Rcode])
	}
	return reply, nil
}
