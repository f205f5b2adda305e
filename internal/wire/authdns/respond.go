package authdns

import (
	"encoding/binary"
	"net/netip"
	"time"

	"github.com/miekg/dns"
)

const (
	headerSize = 12
	fixedSize  = 12 // a record's owner pointer, type, class, TTL and data length
	optSize    = 11 // an OPT record without options (RFC 6891 section 6.1.2)
	// bufferSize is what we offer and the most we send in one UDP packet: no fragments on any usual path.
	bufferSize = 1232
	plainSize  = 512 // RFC 1035 section 4.2.1, for clients without EDNS

	flagResponse      = 1 << 15
	flagAuthoritative = 1 << 10
	flagTruncated     = 1 << 9
	flagRecurse       = 1 << 8
	opcodeMask        = 0xF << 11
)

// query is a request taken apart, as far as an answer needs it. It may be used again for the next one: of its arrays that counts whose
// length asked has, and clearing them for each question would take longer than reading it.
type query struct {
	asked
	cookieSecret *cookieSecret
	from         netip.Addr
	now          time.Time
	name         [255]byte // wire format, lower case
	cookie       [clientCookie + serverCookieMax]byte
	target       [255]byte // the name that an alias or a delegation leads to, while it is followed
}

type asked struct {
	id, flags     uint16
	qtype, qclass uint16
	nameLen       int
	end           int // where the question ends in the request
	edns          bool
	version       byte
	secure        bool // the DO bit
	size          int
	cookieLen     int
}

// respond writes the answer to req into out and returns its length; 0 means that the request is
// not worth an answer (RFC 8906 section 4 lists what must be answered). out holds dns.MaxMsgSize bytes
// over TCP, replySize over UDP.
func (d *Directory) respond(req, out []byte, tcp bool) int {
	var q query
	return d.answerTo(&q, req, out, tcp)
}

// answerTo is respond with what is known of the client, and shows what was read of its question.
func (d *Directory) answerTo(q *query, req, out []byte, tcp bool) int {
	q.asked = asked{}
	if len(req) < headerSize || req[2]&0x80 != 0 {
		return 0
	}
	q.id = binary.BigEndian.Uint16(req)
	q.flags = binary.BigEndian.Uint16(req[2:])
	if q.flags&opcodeMask != dns.OpcodeQuery<<11 {
		return q.bare(out, dns.RcodeNotImplemented)
	}
	if binary.BigEndian.Uint16(req[4:]) != 1 || !q.readQuestion(req) || !q.readOPT(req) {
		return q.bare(out, dns.RcodeFormatError)
	}
	limit := plainSize
	if q.edns {
		limit = min(max(q.size, plainSize), bufferSize)
	}
	if tcp {
		limit = dns.MaxMsgSize
	}
	r := reply{out: out, limit: limit, q: q}
	copy(out[headerSize:], req[headerSize:q.end])
	r.n = q.end
	switch {
	case q.edns && q.version != 0:
		r.rcode = dns.RcodeBadVers
	case q.qclass != dns.ClassINET && q.qclass != dns.ClassANY:
		r.rcode = dns.RcodeRefused
	default:
		d.answer(&r)
	}
	return r.finish()
}

// readQuestion reads the one question. Names in a question are never compressed.
func (q *query) readQuestion(req []byte) bool {
	off := headerSize
	for {
		if off >= len(req) {
			return false
		}
		length := int(req[off])
		if length > 63 || q.nameLen+1+length > len(q.name) || off+1+length > len(req) {
			return false
		}
		q.name[q.nameLen] = byte(length)
		for i, c := range req[off+1 : off+1+length] {
			if c >= 'A' && c <= 'Z' {
				c += 'a' - 'A'
			}
			q.name[q.nameLen+1+i] = c
		}
		q.nameLen += 1 + length
		off += 1 + length
		if length == 0 {
			break
		}
	}
	if off+4 > len(req) {
		return false
	}
	q.qtype, q.qclass = binary.BigEndian.Uint16(req[off:]), binary.BigEndian.Uint16(req[off+2:])
	q.end = off + 4
	return true
}

// readOPT walks the records behind the question for an OPT record (RFC 6891 section 6.1.1: one at most, owned by the root).
func (q *query) readOPT(req []byte) bool {
	records := int(binary.BigEndian.Uint16(req[6:])) + int(binary.BigEndian.Uint16(req[8:]))
	additional := int(binary.BigEndian.Uint16(req[10:]))
	off := q.end
	for i := range records + additional {
		start := off
		if off = readName(req, off); off < 0 || off+10 > len(req) {
			return false
		}
		rrtype, class := binary.BigEndian.Uint16(req[off:]), binary.BigEndian.Uint16(req[off+2:])
		if rrtype == dns.TypeTSIG { // one that stands last came another way (RFC 8945 section 5.1)
			return false
		}
		version, secure := req[off+5], req[off+6]&0x80 != 0
		if off += 10 + int(binary.BigEndian.Uint16(req[off+8:])); off > len(req) {
			return false
		}
		if rrtype == dns.TypeOPT {
			if q.edns || i < records || req[start] != 0 {
				return false
			}
			q.edns, q.size, q.version, q.secure = true, int(class), version, secure
			options := req[start+11 : off] // behind the root's name and the fixed part
			if version == 0 && !q.readCookie(options) {
				return false
			}
		}
	}
	return true
}

// readName is skipName that also follows the name's pointers: each has to lead further back (RFC 1035 section 4.1.4: to a prior
// occurrence), so that none leads in a circle.
func readName(b []byte, off int) int {
	end := skipName(b, off)
	if end < 0 {
		return end
	}
	for at, bound := off, off; ; {
		if at >= len(b) {
			return -1
		}
		switch l := int(b[at]); {
		case l == 0:
			return end
		case l >= 0xC0:
			if at+1 >= len(b) {
				return -1
			}
			to := int(binary.BigEndian.Uint16(b[at:])) & 0x3FFF
			if to >= bound {
				return -1
			}
			at, bound = to, to
		case l > 63:
			return -1
		default:
			at += 1 + l
		}
	}
}

func skipName(b []byte, off int) int {
	for off < len(b) {
		switch l := int(b[off]); {
		case l == 0:
			return off + 1
		case l >= 0xC0:
			return off + 2
		case l > 63:
			return -1
		default:
			off += 1 + l
		}
	}
	return -1
}

// bare answers with a header only: the question was not understood.
func (q *query) bare(out []byte, rcode int) int {
	clear(out[:headerSize])
	binary.BigEndian.PutUint16(out, q.id)
	binary.BigEndian.PutUint16(out[2:], flagResponse|q.flags&(opcodeMask|flagRecurse)|uint16(rcode))
	return headerSize
}

// reply is an answer being written.
type reply struct {
	q             *query
	out           []byte
	n, limit      int
	rcode         int
	authoritative bool
	truncated     bool
	answers       uint16
	authorities   uint16
	additionals   uint16
}

func (r *reply) room() int {
	return r.limit - r.q.optLength() - r.n
}

// optLength is how long the OPT record of the reply is.
func (q *query) optLength() int {
	switch {
	case !q.edns:
		return 0
	case q.cookieLen > 0 && q.cookieSecret != nil:
		return optSize + cookieOption
	}
	return optSize
}

// put adds a set whose owner is written at ownerAt in the reply.
func (r *reply) put(set RRset, ownerAt int) {
	if len(set.wire) > r.room() {
		r.truncated = true
		return
	}
	start := r.n
	r.n += copy(r.out[r.n:], set.wire)
	r.answers += set.count
	if ownerAt == headerSize {
		return // the sets are encoded for this
	}
	for off := start; off < r.n; off += fixedSize + int(binary.BigEndian.Uint16(r.out[off+10:])) {
		binary.BigEndian.PutUint16(r.out[off:], 0xC000|uint16(ownerAt))
	}
}

// negative adds the SOA record to the authority section (RFC 2308 section 3). Its owner is a pointer into the name that
// does not exist, which is written at nameAt, to where the apex begins.
func (r *reply) negative(z *Zone, nameAt, nameLen int) {
	soa := z.soa.Load()
	if len(soa.negative)+2 > r.room() {
		r.truncated = true
		return
	}
	binary.BigEndian.PutUint16(r.out[r.n:], 0xC000|uint16(nameAt+nameLen-len(z.apex)))
	r.n += 2
	r.n += copy(r.out[r.n:], soa.negative)
	r.authorities++
}

func (r *reply) finish() int {
	flags := flagResponse | r.q.flags&flagRecurse | uint16(r.rcode&0xF)
	if r.authoritative {
		flags |= flagAuthoritative
	}
	if r.truncated {
		flags |= flagTruncated
		r.n, r.answers, r.authorities, r.additionals = r.q.end, 0, 0, 0
	}
	if r.q.edns {
		opt := r.out[r.n : r.n+optSize]
		clear(opt)
		binary.BigEndian.PutUint16(opt[1:], dns.TypeOPT)
		binary.BigEndian.PutUint16(opt[3:], bufferSize)
		opt[5] = byte(r.rcode >> 4)
		if r.q.secure { // copied from the request (RFC 3225 section 3)
			opt[7] = 0x80
		}
		r.n += optSize
		if r.q.cookieLen > 0 && r.q.cookieSecret != nil {
			binary.BigEndian.PutUint16(opt[9:], cookieOption)
			option := r.out[r.n : r.n+cookieOption]
			binary.BigEndian.PutUint16(option, dns.EDNS0COOKIE)
			binary.BigEndian.PutUint16(option[2:], clientCookie+serverCookie)
			copy(option[4:], r.q.cookie[:clientCookie])
			r.q.cookieSecret.make(option[4+clientCookie:], r.q.cookie[:clientCookie], r.q.from, r.q.now)
			r.n += cookieOption
		}
		r.additionals++
	}
	h := r.out
	binary.BigEndian.PutUint16(h, r.q.id)
	binary.BigEndian.PutUint16(h[2:], flags)
	binary.BigEndian.PutUint16(h[4:], 1)
	binary.BigEndian.PutUint16(h[6:], r.answers)
	binary.BigEndian.PutUint16(h[8:], r.authorities)
	binary.BigEndian.PutUint16(h[10:], r.additionals)
	return r.n
}
