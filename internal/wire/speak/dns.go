package speak

import (
	"context"
	"encoding/binary"
	"fmt"
	"io"
	"strings"

	"github.com/miekg/dns"

	"inkpost.example/inkpost/internal/core/probe"
)

// speakDNS asks one question (RFC 1035 section 4.1; over TCP section 4.2.2). Any answer, even a refusal, proves a name server; recursion
// for everybody is reported.
func speakDNS(ctx context.Context, t *attempt) (reply, error) {
	name := dns.Fqdn(orDefault(t.request.Options.Ask, t.request.Name))
	if _, ok := dns.IsDomainName(name); !ok {
		return reply{}, protocolError(fmt.Sprintf("%q is not a name that can be asked for", name))
	}
	q := new(dns.Msg)
	q.SetQuestion(name, dns.TypeSOA)
	// The server may say which machine it is (RFC 5001).
	q.SetEdns0(1232, false)
	q.IsEdns0().Option = append(q.IsEdns0().Option, &dns.EDNS0_NSID{Code: dns.EDNS0NSID})
	packed, err := q.Pack()
	if err != nil {
		return reply{}, protocolError("the question cannot be asked: " + err.Error())
	}
	var answer dns.Msg
	take := func(packet []byte) error {
		if err := answer.Unpack(packet); err != nil {
			return protocolError("it answers " + spoken(packet) + ", which is not DNS")
		}
		if answer.Id != q.Id || !answer.Response || len(answer.Question) > 0 && !strings.EqualFold(answer.Question[0].Name, name) {
			return protocolError("the answer is to another question")
		}
		return nil
	}
	asked := "SOA of " + name
	if t.request.Transport == probe.UDP {
		err = t.ask(ctx, asked, packed, take)
	} else {
		t.step("send", "%s", asked)
		if _, err = t.conn.Write(append(binary.BigEndian.AppendUint16(nil, uint16(len(packed))), packed...)); err == nil {
			size := make([]byte, 2)
			if _, err = io.ReadFull(t.conn, size); err == nil {
				packet := make([]byte, binary.BigEndian.Uint16(size))
				if _, err = io.ReadFull(t.conn, packet); err == nil {
					err = take(packet)
				}
			}
		}
	}
	if err != nil {
		return reply{}, err
	}
	h := reply{words: fmt.Sprintf("name server, %s for %s", dns.RcodeToString[answer.Rcode], name)}
	h.fingerprint = serverPrint(&answer)
	if answer.RecursionAvailable && answer.Rcode != dns.RcodeRefused {
		h.weakness = "it resolves names for everybody, which lets it be used against others"
	}
	t.step("receive", "%s", h.words)
	return h, nil
}

// serverPrint tells a name server by its own name for itself, and by what it is able to do.
func serverPrint(answer *dns.Msg) string {
	traits := map[string]string{"recursion": fmt.Sprint(answer.RecursionAvailable)}
	if o := answer.IsEdns0(); o != nil {
		traits["size"] = fmt.Sprint(o.UDPSize())
		for _, option := range o.Option {
			if id, ok := option.(*dns.EDNS0_NSID); ok {
				traits["nsid"] = id.Nsid
			}
		}
	}
	return probe.TraitPrint(traits)
}
