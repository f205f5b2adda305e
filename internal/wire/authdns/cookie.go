package authdns

import (
	"crypto/rand"
	"crypto/subtle"
	"encoding/binary"
	"net/netip"
	"time"

	"github.com/dchest/siphash"
	"github.com/miekg/dns"
)

// Sizes of a cookie (RFC 7873 section 4) and of one of ours (RFC 9018 section 4): version, three reserved octets, a time and a hash.
const (
	clientCookie    = 8
	serverCookie    = 16
	serverCookieMin = 8
	serverCookieMax = 32
	cookieOption    = 4 + clientCookie + serverCookie
)

// A server cookie is believed for an hour, and for five minutes ahead of our clock (RFC 9018 section 4.3).
const (
	cookieLife  = 3600
	cookieAhead = 300
)

// cookieSecret makes and knows server cookies. A client that shows one of ours gets its answers at the address that it asks from: it
// needs no limit, as nobody can forge its questions. The secret lasts as long as the server runs.
type cookieSecret struct{ k0, k1 uint64 }

func newCookieSecret() *cookieSecret {
	var secret [16]byte
	_, _ = rand.Read(secret[:]) // never fails
	return &cookieSecret{binary.LittleEndian.Uint64(secret[:]), binary.LittleEndian.Uint64(secret[8:])}
}

// hash is that of RFC 9018 section 4.4.
func (j *cookieSecret) hash(client, head []byte, from netip.Addr) uint64 {
	var in [clientCookie + 8 + 16]byte
	n := copy(in[:], client)
	n += copy(in[n:], head)
	from = from.Unmap()
	if from.Is4() {
		a := from.As4()
		n += copy(in[n:], a[:])
	} else {
		a := from.As16()
		n += copy(in[n:], a[:])
	}
	return siphash.Hash(j.k0, j.k1, in[:n])
}

// make writes the server cookie for a client.
func (j *cookieSecret) make(out, client []byte, from netip.Addr, now time.Time) {
	out[0], out[1], out[2], out[3] = 1, 0, 0, 0
	binary.BigEndian.PutUint32(out[4:], uint32(now.Unix()))
	binary.LittleEndian.PutUint64(out[8:], j.hash(client, out[:8], from))
}

// knows reports whether a client shows a cookie that we made for it, lately.
func (j *cookieSecret) knows(cookie []byte, from netip.Addr, now time.Time) bool {
	if len(cookie) != clientCookie+serverCookie || cookie[clientCookie] != 1 {
		return false
	}
	server := cookie[clientCookie:]
	age := int32(uint32(now.Unix()) - binary.BigEndian.Uint32(server[4:])) // serial arithmetic (RFC 1982)
	if age > cookieLife || age < -cookieAhead {
		return false
	}
	var want [8]byte
	binary.LittleEndian.PutUint64(want[:], j.hash(cookie[:clientCookie], server[:8], from))
	return subtle.ConstantTimeCompare(want[:], server[8:]) == 1
}

// readCookie looks for a cookie among the options of an OPT record. ok is false if its length is none that a cookie may have (RFC 7873
// section 5.2.2).
func (q *query) readCookie(options []byte) (ok bool) {
	for len(options) >= 4 {
		code, length := binary.BigEndian.Uint16(options), int(binary.BigEndian.Uint16(options[2:]))
		if options = options[4:]; length > len(options) {
			return false
		}
		if code == dns.EDNS0COOKIE {
			if length != clientCookie && (length < clientCookie+serverCookieMin || length > clientCookie+serverCookieMax) {
				return false
			}
			q.cookieLen = copy(q.cookie[:], options[:length])
		}
		options = options[length:]
	}
	return len(options) == 0
}
