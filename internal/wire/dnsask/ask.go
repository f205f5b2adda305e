// Package dnsask asks one name server one question (RFC 1035 section 4).
package dnsask

import (
	"context"
	"errors"
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

const patience = 2 * time.Second

// Addresses asks server ("host:port", or "host:port/tcp" for TCP alone) for the A and AAAA records of name, first over UDP, over
// TCP where the answer was
// cut short. A family without a record is zero in the result. It returns an error where the server does not answer,
// or answers with anything but "no error" or "no such name".
func Addresses(ctx context.Context, server string, kind Kind, name names.Name) (wan.Pair, error) {
	client := dns.Client{Timeout: patience}
	address, overTCP := strings.CutSuffix(server, "/tcp")
	if overTCP {
		client.Net = "tcp"
	}
	conn, err := client.DialContext(ctx, address)
	if err != nil {
		return wan.Pair{}, fmt.Errorf("ask %s for %s: %w", server, name, err)
	}
	defer conn.Close()
	return ask(ctx, conn, client, server, kind, name, dns.TypeA, dns.TypeAAAA)
}

func ask(ctx context.Context, conn *dns.Conn, client dns.Client, server string, kind Kind, name names.Name,
	types ...uint16) (wan.Pair, error) {
	var p wan.Pair
	address, _ := strings.CutSuffix(server, "/tcp")
	for _, qtype := range types {
		m := new(dns.Msg).SetQuestion(string(name)+".", qtype)
		m.RecursionDesired = bool(kind)
		reply, _, err := client.ExchangeWithConnContext(ctx, m, conn)
		if err == nil && reply.Truncated {
			whole := dns.Client{Timeout: client.Timeout, Net: "tcp"}
			reply, _, err = whole.ExchangeContext(ctx, m, address)
		}
		if err == nil && reply.Rcode != dns.RcodeSuccess && reply.Rcode != dns.RcodeNameError {
			err = errors.New("it answered " + dns.RcodeToString[reply.Rcode])
		}
		if err != nil {
			return wan.Pair{}, fmt.Errorf("ask %s for %s: %w", server, name, err)
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

// LocalServer queries one of our own authoritative servers over sockets that it keeps open. Other servers are asked from a new port each
// time, so that an answer cannot be forged by guessing the port; our own needs no such care.
type LocalServer struct {
	server string
	idle   chan *dns.Conn
}

// NewLocalServer makes a LocalServer of the server at "host:port".
func NewLocalServer(server string) *LocalServer {
	return &LocalServer{server: server, idle: make(chan *dns.Conn, 8)}
}

// Addresses is as the function of that name. Errors: those of that function.
func (h *LocalServer) Addresses(ctx context.Context, name names.Name) (wan.Pair, error) {
	return h.ask(ctx, name, dns.TypeA, dns.TypeAAAA)
}

// Changed is Addresses for a name whose answer was just changed to want: a family that should have no address is taken to have none, which
// the next full round proves. Errors: those of Addresses.
func (h *LocalServer) Changed(ctx context.Context, name names.Name, want wan.Pair) (wan.Pair, error) {
	switch {
	case want.IPv4.IsValid() && !want.IPv6.IsValid():
		return h.ask(ctx, name, dns.TypeA)
	case want.IPv6.IsValid() && !want.IPv4.IsValid():
		return h.ask(ctx, name, dns.TypeAAAA)
	}
	return h.Addresses(ctx, name)
}

func (h *LocalServer) ask(ctx context.Context, name names.Name, types ...uint16) (wan.Pair, error) {
	client := dns.Client{Timeout: patience}
	var conn *dns.Conn
	select {
	case conn = <-h.idle:
	default:
		var err error
		if conn, err = client.DialContext(ctx, h.server); err != nil {
			return wan.Pair{}, fmt.Errorf("ask %s for %s: %w", h.server, name, err)
		}
	}
	p, err := ask(ctx, conn, client, h.server, Authoritative, name, types...)
	if err != nil { // an answer may still be on its way to this socket
		_ = conn.Close()
		return p, err
	}
	select {
	case h.idle <- conn:
	default:
		_ = conn.Close()
	}
	return p, nil
}

// Close closes the sockets that are kept.
func (h *LocalServer) Close() {
	for {
		select {
		case conn := <-h.idle:
			_ = conn.Close()
		default:
			return
		}
	}
}
