package authdns

import (
	"encoding/binary"

	"github.com/miekg/dns"
)

// maxChase bounds how many aliases one answer follows.
const maxChase = 8

// answer fills in what the zone says, as RFC 1034 section 4.3.2 lays down, with the wildcards of RFC 4592.
func (d *Directory) answer(r *reply) {
	name := r.q.name[:r.q.nameLen]
	z := d.find(name)
	if z == nil || r.q.qtype == dns.TypeAXFR || r.q.qtype == dns.TypeIXFR {
		r.rcode = dns.RcodeRefused
		return
	}
	r.authoritative = true
	nodes := &z.nodes
	ownerAt := headerSize // where the name in hand is written in the reply
	for range maxChase {
		if z.delegates.Load() {
			// The DS set of a delegation stands on our side of the cut (RFC 4035 section 3.1.4.1).
			if at, cut := z.cut(nodes, name); cut != nil && (at > 0 || r.q.qtype != dns.TypeDS) {
				r.refer(z, nodes, cut, ownerAt+at)
				return
			}
		}
		n := nodes.at(name)
		if n == nil {
			if n = wildcard(nodes, name, len(z.apex)); n == nil {
				r.rcode = dns.RcodeNameError
				r.negative(z, ownerAt, len(name))
				return
			}
		}
		if r.q.qtype == dns.TypeSOA && len(name) == len(z.apex) {
			r.put(z.soa.Load().answer, ownerAt)
			return
		}
		alias := -1
		if sets := n.sets.Load(); sets != nil {
			for i := range *sets {
				set := &(*sets)[i]
				// A question for ANY gets one set (RFC 8482 section 4.1).
				if set.rrtype == r.q.qtype || r.q.qtype == dns.TypeANY {
					r.put(*set, ownerAt)
					return
				}
				if set.rrtype == dns.TypeCNAME {
					alias = i
				}
			}
			if alias >= 0 {
				start := r.n
				r.put((*sets)[alias], ownerAt)
				if r.truncated {
					return
				}
				// The target stands uncompressed in the record's data: the next owner points there.
				ownerAt = start + fixedSize
				target := r.out[ownerAt:r.n]
				copy(r.q.target[:], target)
				name = lower(r.q.target[:len(target)])
				if !withinBytes(name, z.apex) {
					return // what stands in another zone is for the resolver to ask
				}
				continue
			}
		}
		r.negative(z, ownerAt, len(name))
		return
	}
}

// lower converts a name in wire format to lower case in place; lengths are below 64 and so no letters.
func lower(name []byte) []byte {
	for i, c := range name {
		if c >= 'A' && c <= 'Z' {
			name[i] = c + 'a' - 'A'
		}
	}
	return name
}

// wildcard finds the node that stands for a name that does not exist: "*" right below its closest encloser (RFC 4592
// section 3.3.1). A wildcard does not stand for names below one that exists.
func wildcard(nodes *nodeTable, name []byte, apexLen int) *node {
	for len(name) > apexLen {
		name = name[1+int(name[0]):]
		if nodes.at(name) == nil {
			continue
		}
		var star [257]byte
		star[0], star[1] = 1, '*'
		k := copy(star[2:], name)
		return nodes.at(star[:2+k])
	}
	return nil
}

// cut finds the delegation nearest to the apex that name stands at or below, and where its owner begins in name.
func (z *Zone) cut(nodes *nodeTable, name []byte) (at int, cut *node) {
	for off := 0; len(name)-off > len(z.apex); off += 1 + int(name[off]) {
		if n := nodes.at(name[off:]); n != nil {
			if _, has := n.find(dns.TypeNS); has {
				at, cut = off, n
			}
		}
	}
	return at, cut
}

// find returns the node's set of one type.
func (n *node) find(rrtype uint16) (RRset, bool) {
	if sets := n.sets.Load(); sets != nil {
		for _, s := range *sets {
			if s.rrtype == rrtype {
				return s, true
			}
		}
	}
	return RRset{}, false
}

// refer answers with a delegation: its NS records in the authority section, and the addresses of those servers that
// stand at or below the cut (glue, RFC 1034 section 4.2.1).
func (r *reply) refer(z *Zone, nodes *nodeTable, cut *node, ownerAt int) {
	r.authoritative = r.answers > 0 // an alias on the way was ours
	set, _ := cut.find(dns.TypeNS)
	start := r.n
	r.put(set, ownerAt)
	if r.truncated {
		return
	}
	r.answers -= set.count
	r.authorities += set.count
	end := r.n
	for off := start; off < end; {
		length := int(binary.BigEndian.Uint16(r.out[off+10:]))
		serverAt := off + fixedSize
		copy(r.q.target[:], r.out[serverAt:serverAt+length])
		server := lower(r.q.target[:length])
		off = serverAt + length
		n := nodes.at(server)
		if n == nil || !withinBytes(server, z.apex) {
			continue
		}
		for _, rrtype := range [...]uint16{dns.TypeA, dns.TypeAAAA} {
			if glue, has := n.find(rrtype); has && len(glue.wire) <= r.room() {
				before := r.answers
				r.put(glue, serverAt)
				r.answers = before
				r.additionals += glue.count
			}
		}
	}
}

func withinBytes(name []byte, apex string) bool {
	for len(name) > len(apex) {
		name = name[1+int(name[0]):]
	}
	return string(name) == apex
}
