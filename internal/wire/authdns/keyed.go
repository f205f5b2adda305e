package authdns

import (
	"crypto/hmac"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/base64"
	"encoding/hex"
	"hash"
	"sync"

	"github.com/miekg/dns"
)

// keyed implements dns.TsigProvider for one key, and keeps its hashes: to begin one anew costs more than a message does.
type keyed struct {
	secret string
	hashes sync.Pool
}

func newKeyed(algorithm, secret string) *keyed {
	k := &keyed{secret: secret}
	var kind func() hash.Hash
	switch algorithm {
	case dns.HmacSHA256:
		kind = sha256.New
	case dns.HmacSHA512:
		kind = sha512.New
	default:
		return k
	}
	if raw, err := base64.StdEncoding.DecodeString(secret); err == nil {
		k.hashes.New = func() any { return hmac.New(kind, raw) }
	}
	return k
}

// Generate implements dns.TsigProvider.
func (k *keyed) Generate(msg []byte, _ *dns.TSIG) ([]byte, error) {
	h, ok := k.hashes.Get().(hash.Hash)
	if !ok {
		return nil, dns.ErrKeyAlg
	}
	defer k.hashes.Put(h)
	h.Reset()
	h.Write(msg)
	return h.Sum(nil), nil
}

// Verify implements dns.TsigProvider. A truncated MAC is none (RFC 8945 section 5.2.2.1 leaves that to us).
func (k *keyed) Verify(msg []byte, t *dns.TSIG) error {
	right, err := k.Generate(msg, t)
	if err != nil {
		return err
	}
	given, err := hex.DecodeString(t.MAC)
	if err != nil || !hmac.Equal(right, given) {
		return dns.ErrSig
	}
	return nil
}

// keyring keeps the hashes of the keys in use, by name.
type keyring struct {
	mu   sync.Mutex
	keys map[string]*keyed
}

// ringMost bounds a ring: keys that are no longer known are not told of.
const ringMost = 4096

func (r *keyring) of(name, algorithm, secret string) *keyed {
	r.mu.Lock()
	defer r.mu.Unlock()
	k := r.keys[name+algorithm]
	if k == nil || k.secret != secret {
		if r.keys == nil || len(r.keys) >= ringMost {
			r.keys = map[string]*keyed{}
		}
		k = newKeyed(algorithm, secret)
		r.keys[name+algorithm] = k
	}
	return k
}
