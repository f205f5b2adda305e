package authdns

import (
	"crypto/hmac"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/base64"
	"encoding/binary"
	"hash"
	"sync"

	"github.com/miekg/dns"
)

// keyed signs with one TSIG key, and keeps its hashes: setting one up costs more than hashing a message.
type keyed struct {
	secret          string
	name, algorithm []byte // in wire format and lower case
	macStates       sync.Pool
}

// macState is what one signature is made on.
type macState struct {
	hash hash.Hash
	text []byte
}

// newKeyed returns a signer for a key; ok is false for an algorithm or a secret that cannot be used.
func newKeyed(name, algorithm, secret string) (k *keyed, ok bool) {
	kind := map[string]func() hash.Hash{dns.HmacSHA256: sha256.New, dns.HmacSHA512: sha512.New}[algorithm]
	raw, err := base64.StdEncoding.DecodeString(secret)
	if kind == nil || err != nil {
		return nil, false
	}
	k = &keyed{secret: secret, name: wireName(name), algorithm: wireName(algorithm)}
	k.macStates.New = func() any { return &macState{hash: hmac.New(kind, raw)} }
	return k, k.name != nil
}

// wireName returns a name in wire format and lower case, nil if it is none.
func wireName(name string) []byte {
	out := make([]byte, 256)
	n, err := dns.PackDomainName(dns.CanonicalName(name), out, 0, nil, false)
	if err != nil {
		return nil
	}
	return out[:n]
}

// stamp is what a TSIG record says beside its MAC (RFC 8945 section 4.2).
type stamp struct {
	time           uint64 // seconds since 1970, 48 bits
	fudge, failure uint16
	original       uint16 // ID of the message as it was signed
	other          []byte
}

// appendTime appends a 48-bit time.
func appendTime(b []byte, t uint64) []byte {
	return binary.BigEndian.AppendUint32(binary.BigEndian.AppendUint16(b, uint16(t>>32)), uint32(t))
}

// digest returns the MAC of a message without its TSIG record, as RFC 8945 section 4.3 lays down: prior is the MAC of the message before,
// nil for a request; with timers, only the times of the stamp are signed (section 5.3.1).
func (k *keyed) digest(prior, message []byte, t stamp, timers bool) []byte {
	w := k.macStates.Get().(*macState)
	defer k.macStates.Put(w)
	b := w.text[:0]
	if prior != nil {
		b = append(binary.BigEndian.AppendUint16(b, uint16(len(prior))), prior...)
	}
	head := len(b)
	b = append(b, message...)
	binary.BigEndian.PutUint16(b[head:], t.original)
	if !timers {
		b = append(b, k.name...)
		b = append(b, 0, dns.ClassANY, 0, 0, 0, 0) // class and TTL
		b = append(b, k.algorithm...)
	}
	b = binary.BigEndian.AppendUint16(appendTime(b, t.time), t.fudge)
	if !timers {
		b = binary.BigEndian.AppendUint16(b, t.failure)
		b = append(binary.BigEndian.AppendUint16(b, uint16(len(t.other))), t.other...)
	}
	w.text = b
	w.hash.Reset()
	w.hash.Write(b)
	return w.hash.Sum(nil)
}

// appendTSIG appends a TSIG record to a message and counts it there.
func appendTSIG(message, name, algorithm, mac []byte, t stamp) []byte {
	b := append(message, name...)
	b = append(b, 0, byte(dns.TypeTSIG), 0, dns.ClassANY, 0, 0, 0, 0)
	b = binary.BigEndian.AppendUint16(b, uint16(len(algorithm)+16+len(mac)+len(t.other)))
	b = append(b, algorithm...)
	b = binary.BigEndian.AppendUint16(appendTime(b, t.time), t.fudge)
	b = append(binary.BigEndian.AppendUint16(b, uint16(len(mac))), mac...)
	b = binary.BigEndian.AppendUint16(b, t.original)
	b = binary.BigEndian.AppendUint16(b, t.failure)
	b = append(binary.BigEndian.AppendUint16(b, uint16(len(t.other))), t.other...)
	binary.BigEndian.PutUint16(b[10:], binary.BigEndian.Uint16(b[10:])+1)
	return b
}

// keyring keeps the signers of the keys in use, by name.
type keyring struct {
	mu   sync.Mutex
	keys map[keyID]*keyed
}

type keyID struct{ name, algorithm string }

// maxRing bounds a ring: nobody reports keys that are gone.
const maxRing = 4096

// of returns what signs with a key; ok is false for one that cannot be used.
func (r *keyring) of(name, algorithm, secret string) (k *keyed, ok bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	at := keyID{name, algorithm}
	if k := r.keys[at]; k != nil && k.secret == secret {
		return k, true
	}
	if k, ok = newKeyed(name, algorithm, secret); !ok {
		return nil, false
	}
	if r.keys == nil || len(r.keys) >= maxRing {
		r.keys = map[keyID]*keyed{}
	}
	r.keys[at] = k
	return k, true
}
