package speak

import (
	"context"
	"crypto/ecdh"
	"crypto/hmac"
	"crypto/rand"
	"encoding/base64"
	"encoding/binary"
	"errors"
	"hash"
	"time"

	"golang.org/x/crypto/blake2s"
	"golang.org/x/crypto/chacha20poly1305"

	"inkpost.example/inkpost/internal/core/probe"
)

// The handshake of WireGuard is Noise_IKpsk2 with X25519, ChaCha20-Poly1305 and BLAKE2s (the protocol paper, section 5.4;
// the Noise framework, section 7.5), without a preshared key.
const (
	wgConstruction = "Noise_IKpsk2_25519_ChaChaPoly_BLAKE2s"
	wgIdentifier   = "WireGuard v1 zx2c4 Jason@zx2c4.com"
	wgInitiation   = 148 // octets
	wgResponse     = 92
	wgCookie       = 64
)

// speakWireGuard carries out a genuine handshake with a key that the server knows as a peer's. Only the holder of the server's
// private key can complete it, so that an answer proves who it is; to anybody else the server says nothing.
func speakWireGuard(ctx context.Context, t *attempt) (reply, error) {
	peer, err := probe.WireGuardKey(t.request.Options.PeerKey)
	if err != nil || len(t.request.ProbeKey) != 32 {
		h, err := speakUDP(ctx, t) // without keys it is a port like any other
		return h, err
	}
	static, err := ecdh.X25519().NewPrivateKey(t.request.ProbeKey)
	if err != nil {
		return reply{}, err
	}
	remote, err := ecdh.X25519().NewPublicKey(peer)
	if err != nil {
		return reply{}, protocolError("the server's key is no key of X25519")
	}
	var tries []*initiation
	words := ""
	t.step("send", "handshake initiation as peer %s", base64.StdEncoding.EncodeToString(static.PublicKey().Bytes()))
	err = t.exchange(ctx, func() []byte {
		one, err := initiate(static, remote, uint32(len(tries)+1)<<8|0x50, time.Now())
		if err != nil {
			return nil
		}
		tries = append(tries, one)
		return one.packet
	}, func(packet []byte) error {
		for _, one := range tries {
			if one.completedBy(packet, static) {
				words = "WireGuard completes the handshake"
				return nil
			}
			if one.cookieIn(packet, remote) {
				words = "WireGuard is busy, and proves its key by a cookie"
				return nil
			}
		}
		return protocolError("it answers " + spoken(packet) + ", which does not complete the handshake")
	})
	if err != nil {
		return reply{}, err
	}
	t.step("receive", "%s", words)
	return reply{words: words, fingerprint: "key " + t.request.Options.PeerKey}, nil
}

// initiation is a handshake that we began.
type initiation struct {
	packet    []byte
	sender    uint32
	ephemeral *ecdh.PrivateKey
	chain     [32]byte
	hash      [32]byte
	mac       []byte
}

func initiate(static *ecdh.PrivateKey, remote *ecdh.PublicKey, sender uint32, now time.Time) (*initiation, error) {
	i := &initiation{sender: sender}
	var err error
	if i.ephemeral, err = ecdh.X25519().GenerateKey(rand.Reader); err != nil {
		return nil, err
	}
	i.chain = blake2s.Sum256([]byte(wgConstruction))
	i.hash = blake2s.Sum256(append(i.chain[:], wgIdentifier...))
	i.mix(remote.Bytes())
	i.packet = append([]byte{1, 0, 0, 0}, binary.LittleEndian.AppendUint32(nil, sender)...)
	public := i.ephemeral.PublicKey().Bytes()
	i.packet = append(i.packet, public...)
	i.chain, _ = derive(i.chain, public)
	i.mix(public)
	shared, err := i.ephemeral.ECDH(remote)
	if err != nil {
		return nil, err
	}
	var key [32]byte
	i.chain, key = derive(i.chain, shared)
	if err := i.seal(key, static.PublicKey().Bytes()); err != nil {
		return nil, err
	}
	if shared, err = static.ECDH(remote); err != nil {
		return nil, err
	}
	i.chain, key = derive(i.chain, shared)
	if err := i.seal(key, tai64n(now)); err != nil {
		return nil, err
	}
	macKey := blake2s.Sum256(append([]byte("mac1----"), remote.Bytes()...))
	mac, err := blake2s.New128(macKey[:])
	if err != nil {
		return nil, err
	}
	mac.Write(i.packet)
	i.mac = mac.Sum(nil)
	i.packet = append(append(i.packet, i.mac...), make([]byte, 16)...)
	return i, nil
}

// mix takes data into the transcript.
func (i *initiation) mix(data []byte) { i.hash = blake2s.Sum256(append(i.hash[:], data...)) }

func (i *initiation) seal(key [32]byte, plain []byte) error {
	aead, err := chacha20poly1305.New(key[:])
	if err != nil {
		return err
	}
	sealed := aead.Seal(nil, make([]byte, aead.NonceSize()), plain, i.hash[:])
	i.packet = append(i.packet, sealed...)
	i.mix(sealed)
	return nil
}

// completedBy reports whether a packet is the response to this initiation, made with the server's private key.
func (i *initiation) completedBy(packet []byte, static *ecdh.PrivateKey) bool {
	if len(packet) != wgResponse || packet[0] != 2 || binary.LittleEndian.Uint32(packet[8:]) != i.sender {
		return false
	}
	public := packet[12:44]
	remote, err := ecdh.X25519().NewPublicKey(public)
	if err != nil {
		return false
	}
	one, err1 := i.ephemeral.ECDH(remote)
	two, err2 := static.ECDH(remote)
	if errors.Join(err1, err2) != nil {
		return false
	}
	chain, _ := derive(i.chain, public)
	transcript := blake2s.Sum256(append(i.hash[:], public...))
	chain, _ = derive(chain, one)
	chain, _ = derive(chain, two)
	_, middle, key := derive3(chain, make([]byte, 32)) // no preshared key
	transcript = blake2s.Sum256(append(transcript[:], middle[:]...))
	aead, err := chacha20poly1305.New(key[:])
	if err != nil {
		return false
	}
	_, err = aead.Open(nil, make([]byte, aead.NonceSize()), packet[44:60], transcript[:])
	return err == nil
}

// cookieIn reports whether a packet is a cookie for this initiation (section 5.4.7), which only somebody who knows the server's
// public key can make, and only whoever saw our packet.
func (i *initiation) cookieIn(packet []byte, remote *ecdh.PublicKey) bool {
	if len(packet) != wgCookie || packet[0] != 3 || binary.LittleEndian.Uint32(packet[4:]) != i.sender {
		return false
	}
	key := blake2s.Sum256(append([]byte("cookie--"), remote.Bytes()...))
	aead, err := chacha20poly1305.NewX(key[:])
	if err != nil {
		return false
	}
	_, err = aead.Open(nil, packet[8:32], packet[32:], i.mac)
	return err == nil
}

// derive is HKDF (RFC 5869) with HMAC-BLAKE2s, two outputs; derive3 has three.
func derive(chain [32]byte, input []byte) (a, b [32]byte) {
	a, b, _ = derive3(chain, input)
	return a, b
}

func derive3(chain [32]byte, input []byte) (a, b, c [32]byte) {
	secret := keyed(chain[:], input)
	copy(a[:], keyed(secret, []byte{1}))
	copy(b[:], keyed(secret, a[:], []byte{2}))
	copy(c[:], keyed(secret, b[:], []byte{3}))
	return a, b, c
}

func keyed(key []byte, parts ...[]byte) []byte {
	h := hmac.New(func() hash.Hash { h, _ := blake2s.New256(nil); return h }, key)
	for _, p := range parts {
		h.Write(p)
	}
	return h.Sum(nil)
}

// tai64n is the time stamp of a handshake: the server takes none that is older than the last it has seen of a peer.
func tai64n(now time.Time) []byte {
	out := binary.BigEndian.AppendUint64(nil, 0x400000000000000a+uint64(now.Unix()))
	return binary.BigEndian.AppendUint32(out, uint32(now.Nanosecond()))
}
