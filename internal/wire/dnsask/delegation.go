package dnsask

import (
	"context"
	"errors"
	"fmt"
	"net"
	"strings"

	"github.com/miekg/dns"

	"inkpost.example/inkpost/internal/core/checkup"
	"inkpost.example/inkpost/internal/core/names"
)

// Surveyor finds out who serves zones, and what they say, as the world sees it.
type Surveyor struct {
	// Resolvers are the "host:port" that are asked for what is not asked of a zone's own servers. Required.
	Resolvers []string
	// Port of name servers. Default: 53.
	Port string
}

// exchange asks one question, over TCP where the answer does not fit.
func exchange(ctx context.Context, server string, kind Kind, name string, qtype uint16) (*dns.Msg, error) {
	address, overTCP := strings.CutSuffix(server, "/tcp")
	client := dns.Client{Timeout: patience}
	if overTCP {
		client.Net = "tcp"
	}
	m := new(dns.Msg).SetQuestion(dns.Fqdn(name), qtype)
	m.RecursionDesired = bool(kind)
	reply, _, err := client.ExchangeContext(ctx, m, address)
	if err == nil && reply.Truncated {
		client.Net = "tcp"
		reply, _, err = client.ExchangeContext(ctx, m, address)
	}
	if err != nil {
		return nil, err
	}
	return reply, nil
}

// resolve asks the first resolver that answers.
func (s Surveyor) resolve(ctx context.Context, name string, qtype uint16) (reply *dns.Msg, err error) {
	err = errors.New("no resolver is set")
	for _, at := range s.Resolvers {
		if reply, err = exchange(ctx, at, Resolver, name, qtype); err == nil {
			if reply.Rcode == dns.RcodeSuccess || reply.Rcode == dns.RcodeNameError {
				return reply, nil
			}
			err = errors.New("the resolver " + at + " answers " + dns.RcodeToString[reply.Rcode])
		}
	}
	return nil, err
}

// Answers asks for a name. Error: that of the last resolver, where none of them finds it or says that there is none.
func (s Surveyor) Answers(ctx context.Context, name string, qtype uint16) error {
	_, err := s.resolve(ctx, name, qtype)
	return err
}

// at is where a name server answers.
func (s Surveyor) at(address string) string {
	if s.Port == "" {
		return net.JoinHostPort(address, "53")
	}
	return net.JoinHostPort(address, s.Port)
}

// Addresses lists the addresses of a host, IPv4 first. It returns an error where no resolver answers.
func (s Surveyor) Addresses(ctx context.Context, host string) (out []string, err error) {
	for _, qtype := range []uint16{dns.TypeA, dns.TypeAAAA} {
		reply, err := s.resolve(ctx, host, qtype)
		if err != nil {
			return out, err
		}
		out = append(out, addressesIn(reply.Answer, "")...)
	}
	return out, nil
}

// addressesIn lists addresses of a host in some records; of all hosts if it is "".
func addressesIn(list []dns.RR, host string) (out []string) {
	for _, rr := range list {
		if host != "" && !strings.EqualFold(plain(rr.Header().Name), host) {
			continue
		}
		switch rr := rr.(type) {
		case *dns.A:
			out = append(out, rr.A.String())
		case *dns.AAAA:
			out = append(out, rr.AAAA.String())
		}
	}
	return out
}

func plain(name string) string { return strings.ToLower(strings.TrimSuffix(name, ".")) }

// serversIn lists the name servers of a zone in some records.
func serversIn(list []dns.RR, apex string) (out []string) {
	for _, rr := range list {
		if ns, ok := rr.(*dns.NS); ok && strings.EqualFold(plain(ns.Hdr.Name), apex) {
			out = append(out, plain(ns.Ns))
		}
	}
	return out
}

// Parent returns the apex of the zone above another, and what each of its servers says of that one. It returns an error where no resolver
// finds the parent.
func (s Surveyor) Parent(ctx context.Context, apex names.Name) (parent string, from []checkup.Delegated, err error) {
	_, above, ok := strings.Cut(string(apex), ".")
	if !ok {
		return "", nil, errors.New("it stands directly below the root")
	}
	reply, err := s.resolve(ctx, above, dns.TypeSOA)
	if err != nil {
		return "", nil, err
	}
	for _, rr := range append(reply.Answer, reply.Ns...) { // of the name itself, or of the zone that it lies in
		if soa, ok := rr.(*dns.SOA); ok {
			parent = plain(soa.Hdr.Name)
		}
	}
	if parent == "" && len(reply.Ns)+len(reply.Answer) == 0 {
		return "", nil, fmt.Errorf("nobody says in which zone %s lies", above)
	}
	reply, err = s.resolve(ctx, parent, dns.TypeNS)
	if err != nil {
		return parent, nil, err
	}
	for _, host := range serversIn(reply.Answer, parent) {
		list := addressesIn(reply.Extra, host)
		if len(list) == 0 {
			if list, err = s.Addresses(ctx, host); err == nil && len(list) == 0 {
				err = errors.New("it has no address")
			}
		}
		if err != nil {
			from = append(from, checkup.Delegated{Server: host, Trouble: err.Error()})
			continue
		}
		from = append(from, s.delegation(ctx, host, list[0], string(apex)))
	}
	return parent, from, nil
}

// delegation asks a server of the parent zone who serves the zone below (RFC 1034 section 4.2.2).
func (s Surveyor) delegation(ctx context.Context, host, address, apex string) checkup.Delegated {
	d := checkup.Delegated{Server: host, Glue: map[string][]string{}}
	reply, err := exchange(ctx, s.at(address), Authoritative, apex, dns.TypeNS)
	switch {
	case err != nil:
		d.Trouble = err.Error()
		return d
	case reply.Rcode != dns.RcodeSuccess && reply.Rcode != dns.RcodeNameError:
		d.Trouble = "it answers " + dns.RcodeToString[reply.Rcode]
		return d
	}
	// A server that has both zones answers for the one below by itself.
	d.Names = serversIn(append(reply.Ns, reply.Answer...), apex)
	for _, n := range d.Names {
		d.Glue[n] = addressesIn(reply.Extra, n)
	}
	return d
}

// Served asks the server of a zone at an address what it has of it.
func (s Surveyor) Served(ctx context.Context, host, address string, apex names.Name) checkup.Served {
	return ServedAt(ctx, host, s.at(address), apex)
}

// ServedAt asks the server of a zone at "host:port" what it has of it. host is what it is called.
func ServedAt(ctx context.Context, host, at string, apex names.Name) checkup.Served {
	out := checkup.Served{Server: host, Address: at}
	if a, port, err := net.SplitHostPort(at); err == nil && port == "53" {
		out.Address = a
	}
	reply, err := exchange(ctx, at, Authoritative, string(apex), dns.TypeSOA)
	if err != nil {
		out.Trouble = err.Error()
		return out
	}
	if _, err := exchange(ctx, at+"/tcp", Authoritative, string(apex), dns.TypeSOA); err != nil { // RFC 7766: TCP is required
		out.Trouble = "over TCP: " + err.Error()
		return out
	}
	for _, rr := range reply.Answer {
		if soa, ok := rr.(*dns.SOA); ok && reply.Authoritative {
			out.Authoritative, out.Serial = true, soa.Serial
		}
	}
	if reply, err = exchange(ctx, at, Authoritative, string(apex), dns.TypeNS); err == nil {
		out.Names = serversIn(reply.Answer, string(apex))
	}
	return out
}

// HasText reports whether a server of a zone answers a text for a name.
func HasText(ctx context.Context, at string, name names.Name, text string) bool {
	reply, err := exchange(ctx, at, Authoritative, string(name), dns.TypeTXT)
	if err != nil {
		return false
	}
	for _, rr := range reply.Answer {
		if t, ok := rr.(*dns.TXT); ok && strings.Join(t.Txt, "") == text {
			return true
		}
	}
	return false
}
