// Package dnsupdate is the asking side of DNS UPDATE (RFC 2136): it puts the records of one name into a zone on somebody's
// primary server, signed with TSIG (RFC 8945).
package dnsupdate

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"syscall"
	"time"

	"github.com/miekg/dns"

	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/wire/zonefile"
)

// Primary is the server that takes updates of a zone, and the key that it knows us by. Without a KeyName updates are not
// signed.
type Primary struct {
	Address   string // "host:port"
	Transport string // names.OverUDP or names.OverTCP
	KeyName   string // without a final dot
	Algorithm string // such as hmac-sha256
	Secret    string // base64
}

// Refused reports that the primary answered and refused.
type Refused struct {
	Rcode  int
	Detail string
}

func (e Refused) Error() string { return e.Detail }

// Unreachable reports that the primary did not answer, or cannot work now.
type Unreachable struct{ Detail string }

func (e Unreachable) Error() string { return e.Detail }

const (
	patience = 2 * time.Second
	tries    = 2    // over UDP, where a packet may be lost; an update that is carried out twice does no harm
	oneRoom  = 1232 // a longer message goes over TCP
)

// Compose makes the update that gives a name the records want, and none else of the types that it was given before. A name that should be
// an ordinary one must not be an alias, and an alias stands alone: servers leave such updates out without a word (RFC 2136 section
// 3.4.2.2), so that is made a prerequisite. Error: a record whose data cannot be read.
func Compose(apex, name names.Name, given, want []names.Record) (*dns.Msg, error) {
	m := new(dns.Msg).SetUpdate(string(apex) + ".")
	owner := string(name) + "."
	header := func(rrtype, class uint16) dns.RR {
		return &dns.ANY{Hdr: dns.RR_Header{Name: owner, Rrtype: rrtype, Class: class}}
	}
	aliasWanted, aliasGiven := false, false
	for _, r := range want {
		aliasWanted = aliasWanted || r.Type == "CNAME"
	}
	for _, r := range given {
		aliasGiven = aliasGiven || r.Type == "CNAME"
	}
	if len(want) > 0 && !aliasWanted && !aliasGiven {
		m.Answer = append(m.Answer, header(dns.TypeCNAME, dns.ClassNONE))
	}
	for _, rrtype := range names.OwnedTypes(given, want) {
		t, err := zonefile.Type(rrtype)
		if err != nil {
			return nil, err
		}
		m.Ns = append(m.Ns, header(t, dns.ClassANY))
	}
	for _, r := range want {
		rr, err := zonefile.RR(r)
		if err != nil {
			return nil, err
		}
		m.Ns = append(m.Ns, rr)
	}
	return m, nil
}

// Send has the primary carry out an update. Its errors are Refused, Unreachable, and those of ctx.
func (p Primary) Send(ctx context.Context, m *dns.Msg) error {
	reply, err := p.exchange(ctx, m, p.KeyName != "")
	switch {
	case ctx.Err() != nil:
		return ctx.Err()
	case reply == nil:
		return Unreachable{Detail: plainly(err)}
	case reply.Rcode == dns.RcodeServerFailure:
		return Unreachable{Detail: "it answered SERVFAIL: it cannot work at present"}
	case reply.Rcode != dns.RcodeSuccess:
		return Refused{Rcode: reply.Rcode, Detail: explain(reply)}
	case err != nil:
		return Unreachable{Detail: fmt.Sprintf("its answer cannot be trusted: %v", err)}
	case p.KeyName != "" && reply.IsTsig() == nil:
		return Unreachable{Detail: "its answer is not signed, and so cannot be trusted"}
	}
	return nil
}

// exchange asks, and over UDP asks again. Each try is signed again: signing consumes the placeholder in the message.
func (p Primary) exchange(ctx context.Context, m *dns.Msg, signed bool) (reply *dns.Msg, err error) {
	client := dns.Client{Timeout: patience, Net: p.Transport, TsigSecret: map[string]string{}}
	if p.KeyName != "" {
		client.TsigSecret[p.KeyName+"."] = p.Secret
	}
	attempts := tries
	if m.Len() > oneRoom || client.Net == names.OverTCP {
		client.Net, attempts = names.OverTCP, 1
	}
	for range attempts {
		try := m
		if signed {
			try = m.Copy().SetTsig(p.KeyName+".", p.Algorithm+".", 300, time.Now().Unix())
		}
		reply, _, err = client.ExchangeContext(ctx, try, p.Address)
		if reply != nil || ctx.Err() != nil || errors.Is(err, dns.ErrId) {
			break
		}
	}
	if reply != nil && reply.Id != m.Id {
		return nil, errors.New("the answer is for another question")
	}
	return reply, err
}

// plainly explains in plain words why no answer came.
func plainly(err error) string {
	var network net.Error
	switch {
	case errors.Is(err, syscall.ECONNREFUSED):
		return "nothing listens at its port (connection refused)"
	case errors.Is(err, syscall.EHOSTUNREACH), errors.Is(err, syscall.ENETUNREACH):
		return "no route to it (unreachable)"
	case errors.As(err, &network) && network.Timeout():
		return "it does not answer"
	case errors.Is(err, syscall.ECONNRESET), errors.Is(err, syscall.EPIPE):
		return "it cut the connection before it answered (connection reset)"
	case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF):
		return "it closed the connection without an answer"
	}
	return err.Error()
}

// explain puts a refusal into plain words.
func explain(reply *dns.Msg) string {
	word := dns.RcodeToString[reply.Rcode]
	if t := reply.IsTsig(); t != nil {
		switch t.Error {
		case dns.RcodeBadKey:
			return word + ", BADKEY: it does not know a key of this name and algorithm"
		case dns.RcodeBadSig:
			return word + ", BADSIG: its secret for this key is another one"
		case dns.RcodeBadTime:
			return word + ", BADTIME: its clock and ours differ too much"
		}
	}
	switch reply.Rcode {
	case dns.RcodeRefused:
		return word + ": it does not allow us to change this name"
	case dns.RcodeNotAuth:
		return word + ": it is not the primary of this zone, or does not accept our key"
	case dns.RcodeNotZone:
		return word + ": the name is not in the zone that it serves"
	case dns.RcodeYXRrset:
		return word + ": the name is an alias (CNAME) there"
	case dns.RcodeNotImplemented:
		return word + ": it takes no updates"
	}
	return word
}

// Records asks the primary for the records that a name has of some types. Error: Unreachable.
func (p Primary) Records(ctx context.Context, name names.Name, types []string) ([]names.Record, error) {
	var out []names.Record
	for _, rrtype := range types {
		t, err := zonefile.Type(rrtype)
		if err != nil {
			return nil, err
		}
		m := new(dns.Msg).SetQuestion(string(name)+".", t)
		m.RecursionDesired = false
		reply, err := p.exchange(ctx, m, false)
		if err == nil && reply.Truncated {
			over := p
			over.Transport = names.OverTCP
			reply, err = over.exchange(ctx, m, false)
		}
		if err != nil {
			return nil, Unreachable{Detail: plainly(err)}
		}
		if reply.Rcode != dns.RcodeSuccess && reply.Rcode != dns.RcodeNameError {
			return nil, Refused{Rcode: reply.Rcode, Detail: "asked for " + string(name) + " it answered " + dns.RcodeToString[reply.Rcode]}
		}
		for _, rr := range reply.Answer {
			if rr.Header().Rrtype == t && dns.CanonicalName(rr.Header().Name) == string(name)+"." {
				out = append(out, zonefile.Record(rr))
			}
		}
	}
	return out, nil
}
