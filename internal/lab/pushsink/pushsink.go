// Package pushsink is a stand-in for a browser and its push service: it takes messages by RFC 8030, checks who sends (RFC 8292), and reads
// them as the browser would (RFC 8291).
package pushsink

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/ecdh"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/hkdf"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/big"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"time"
)

// Message is what the browser was shown.
type Message struct {
	Header http.Header
	Text   string
}

// Sink is a browser and its push service. It is safe for concurrent use.
type Sink struct {
	key  *ecdh.PrivateKey
	auth []byte

	mu     sync.Mutex
	known  string // the sender's public key; that of whoever comes first if empty
	answer int
	kept   []Message
	byID   map[string]int
}

// New returns a sink with keys of its own, which takes everything. Error: that of the source of randomness.
func New() (*Sink, error) {
	key, err := ecdh.P256().GenerateKey(rand.Reader)
	if err != nil {
		return nil, err
	}
	auth := make([]byte, 16)
	_, _ = rand.Read(auth) // never fails
	return &Sink{key: key, auth: auth, answer: http.StatusCreated, byID: map[string]int{}}, nil
}

// Keys are what the browser gives to the page that subscribes, in base64url.
func (s *Sink) Keys() (p256dh, auth string) {
	return base64.RawURLEncoding.EncodeToString(s.key.PublicKey().Bytes()), base64.RawURLEncoding.EncodeToString(s.auth)
}

// Answer has the push service answer with a status from now on.
func (s *Sink) Answer(status int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.answer = status
}

// Kept returns what came, in order. What came again under a topic replaces what was there (RFC 8030, section 5.4).
func (s *Sink) Kept() []Message {
	s.mu.Lock()
	defer s.mu.Unlock()
	return append([]Message{}, s.kept...)
}

// ServeHTTP implements http.Handler.
func (s *Sink) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.answer/100 != 2 {
		w.WriteHeader(s.answer)
		return
	}
	if r.Header.Get("TTL") == "" || r.Header.Get("Content-Encoding") != "aes128gcm" {
		http.Error(w, "TTL and aes128gcm are required", http.StatusBadRequest)
		return
	}
	if err := s.checkSender(r); err != nil {
		http.Error(w, err.Error(), http.StatusForbidden)
		return
	}
	body, err := io.ReadAll(io.LimitReader(r.Body, 4097))
	if err != nil || len(body) > 4096 {
		http.Error(w, "more than 4096 bytes", http.StatusRequestEntityTooLarge)
		return
	}
	text, err := s.open(body)
	if err != nil {
		http.Error(w, err.Error(), http.StatusBadRequest)
		return
	}
	m := Message{Header: r.Header.Clone(), Text: string(text)}
	topic := r.Header.Get("Topic")
	if at, again := s.byID[topic]; again && topic != "" {
		s.kept[at] = m
	} else {
		s.byID[topic] = len(s.kept)
		s.kept = append(s.kept, m)
	}
	w.WriteHeader(s.answer)
}

// checkSender checks that a request is signed for this push service, by the same sender as ever (RFC 8292, sections 2 and 4.2).
func (s *Sink) checkSender(r *http.Request) error {
	fields := map[string]string{}
	scheme, rest, _ := strings.Cut(r.Header.Get("Authorization"), " ")
	for _, part := range strings.Split(rest, ",") {
		name, value, _ := strings.Cut(strings.TrimSpace(part), "=")
		fields[name] = value
	}
	point, err := base64.RawURLEncoding.DecodeString(strings.TrimRight(fields["k"], "="))
	if scheme != "vapid" || err != nil || len(point) != 65 {
		return errors.New("no VAPID key")
	}
	if s.known == "" {
		s.known = fields["k"]
	}
	if s.known != fields["k"] {
		return errors.New("another sender than the one subscribed to")
	}
	signed, signature, ok := cutLast(fields["t"], ".")
	sig, err := base64.RawURLEncoding.DecodeString(signature)
	if !ok || err != nil || len(sig) != 64 {
		return errors.New("no ES256 token")
	}
	public, err := ecdsa.ParseUncompressedPublicKey(elliptic.P256(), point)
	if err != nil {
		return err
	}
	sum := sha256.Sum256([]byte(signed))
	if !ecdsa.Verify(public, sum[:], new(big.Int).SetBytes(sig[:32]), new(big.Int).SetBytes(sig[32:])) {
		return errors.New("the signature is wrong")
	}
	_, payload, _ := strings.Cut(signed, ".")
	doc, err := base64.RawURLEncoding.DecodeString(payload)
	var claims struct {
		Aud string `json:"aud"`
		Exp int64  `json:"exp"`
		Sub string `json:"sub"`
	}
	if err == nil {
		err = json.Unmarshal(doc, &claims)
	}
	if err != nil {
		return err
	}
	aud, err := url.Parse(claims.Aud)
	left := time.Until(time.Unix(claims.Exp, 0))
	switch {
	case err != nil || aud.Host != r.Host:
		return fmt.Errorf("the token is for %q", claims.Aud)
	case left <= 0 || left > 24*time.Hour:
		return fmt.Errorf("the token ends in %s", left)
	case !strings.HasPrefix(claims.Sub, "mailto:") && !strings.HasPrefix(claims.Sub, "https:"):
		return fmt.Errorf("nobody can be reached at %q", claims.Sub)
	}
	return nil
}

func cutLast(s, sep string) (before, after string, ok bool) {
	i := strings.LastIndex(s, sep)
	if i < 0 {
		return s, "", false
	}
	return s[:i], s[i+1:], true
}

// open decrypts a message (RFC 8188, section 2; RFC 8291, section 3.4).
func (s *Sink) open(body []byte) ([]byte, error) {
	if len(body) < 21+65 || body[20] != 65 {
		return nil, errors.New("no aes128gcm header with a key")
	}
	salt, size, theirs, sealed := body[:16], binary.BigEndian.Uint32(body[16:20]), body[21:86], body[86:]
	if int(size) < len(sealed) {
		return nil, errors.New("more than one record")
	}
	public, err := ecdh.P256().NewPublicKey(theirs)
	if err != nil {
		return nil, err
	}
	shared, err := s.key.ECDH(public)
	if err != nil {
		return nil, err
	}
	info := "WebPush: info\x00" + string(s.key.PublicKey().Bytes()) + string(theirs)
	ikm, err := hkdf.Key(sha256.New, shared, s.auth, info, 32)
	if err != nil {
		return nil, err
	}
	key, err := hkdf.Key(sha256.New, ikm, salt, "Content-Encoding: aes128gcm\x00", 16)
	if err != nil {
		return nil, err
	}
	nonce, err := hkdf.Key(sha256.New, ikm, salt, "Content-Encoding: nonce\x00", 12)
	if err != nil {
		return nil, err
	}
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, err
	}
	gcm, err := cipher.NewGCM(block)
	if err != nil {
		return nil, err
	}
	text, err := gcm.Open(nil, nonce, sealed, nil)
	if err != nil {
		return nil, err
	}
	end := strings.LastIndexByte(string(text), 2) // the delimiter of the last record, before padding
	if end < 0 {
		return nil, errors.New("no delimiter")
	}
	return text[:end], nil
}
