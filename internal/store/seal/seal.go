// Package seal keeps secrets of the database unreadable for whoever has the database alone: a backup, a disk, a look at a table.
package seal

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"encoding/base64"
	"errors"
	"fmt"
	"strings"
)

// prefix is what a sealed secret begins with. No secret of ours does: they are base64, base32 or hexadecimal.
const prefix = "sealed:"

// length of a key in octets: AES-256.
const length = 32

// Ring is the keys that open secrets; the first of them seals. The zero Ring leaves secrets as they are.
type Ring struct{ keys []cipher.AEAD }

// ErrClosed reports a sealed secret that no key of the ring opens.
var ErrClosed = errors.New("a secret in the database is sealed with a key that is not among those given; give the file with that key " +
	"(--secrets-key)")

// NewKey makes a key, as a line of a key file.
func NewKey() string {
	key := make([]byte, length)
	_, _ = rand.Read(key) // it never fails
	return base64.StdEncoding.EncodeToString(key)
}

// Read reads a key file: a key a line, in base64; lines that begin with # are passed over. Error: a line that is no key, no key at all.
func Read(file []byte) (Ring, error) {
	var r Ring
	for n, line := range strings.Split(string(file), "\n") {
		line = strings.TrimSpace(line)
		if line == "" || strings.HasPrefix(line, "#") {
			continue
		}
		key, err := base64.StdEncoding.DecodeString(line)
		if err != nil || len(key) != length {
			return Ring{}, fmt.Errorf("line %d is no key: 32 octets in base64, as inkpost secrets-key makes them", n+1)
		}
		block, err := aes.NewCipher(key)
		if err != nil {
			return Ring{}, err
		}
		aead, err := cipher.NewGCM(block)
		if err != nil {
			return Ring{}, err
		}
		r.keys = append(r.keys, aead)
	}
	if len(r.keys) == 0 {
		return Ring{}, errors.New("there is no key in it; inkpost secrets-key FILE makes one")
	}
	return r, nil
}

// Empty reports whether the ring has no key.
func (r Ring) Empty() bool { return len(r.keys) == 0 }

// Sealed reports whether a stored secret is sealed.
func Sealed(stored string) bool { return strings.HasPrefix(stored, prefix) }

// Seal makes a secret of a column unreadable. An empty one stays empty.
func (r Ring) Seal(column, plain string) string {
	if plain == "" || r.Empty() {
		return plain
	}
	nonce := make([]byte, r.keys[0].NonceSize())
	_, _ = rand.Read(nonce)
	return prefix + base64.RawStdEncoding.EncodeToString(r.keys[0].Seal(nonce, nonce, []byte(plain), []byte(column)))
}

// Open returns the secret that is stored in a column; one that was never sealed as it is. Error: ErrClosed.
func (r Ring) Open(column, stored string) (string, error) {
	plain, _, err := r.open(column, stored)
	return plain, err
}

func (r Ring) open(column, stored string) (plain string, by int, err error) {
	if !Sealed(stored) {
		return stored, -1, nil
	}
	box, err := base64.RawStdEncoding.DecodeString(stored[len(prefix):])
	for i, key := range r.keys {
		if err != nil || len(box) < key.NonceSize() {
			break
		}
		if text, err := key.Open(nil, box[:key.NonceSize()], box[key.NonceSize():], []byte(column)); err == nil {
			return string(text), i, nil
		}
	}
	return "", -1, ErrClosed
}

// Reseal returns a stored secret as the first key seals it; same reports that it is so already. Error: ErrClosed.
func (r Ring) Reseal(column, stored string) (now string, same bool, err error) {
	plain, by, err := r.open(column, stored)
	if err != nil || plain == "" || r.Empty() || by == 0 {
		return stored, true, err
	}
	return r.Seal(column, plain), false, nil
}
