package access

import (
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"fmt"
	"net/netip"
	"strings"
	"unicode/utf8"

	"inkpost.example/inkpost/internal/core/site"
)

// codeAlphabet has no letters that are mistaken for digits.
const codeAlphabet = "ABCDEFGHJKMNPQRSTUVWXYZ23456789"

func random(octets int) []byte {
	b := make([]byte, octets)
	_, _ = rand.Read(b) // never fails
	return b
}

// newSecret makes a secret of 256 bits.
func newSecret() string { return base64.RawURLEncoding.EncodeToString(random(32)) }

// claimedKey makes the key of an enrolment, always the same of a code and a claim. Error: site.Flaws for a claim that could be guessed.
func claimedKey(code, claim string) (string, error) {
	if claim == "" {
		return keyPrefix + newSecret(), nil
	}
	if len(claim) < 32 || len(claim) > 200 {
		return "", site.Flaws{{Field: "claim", Detail: "must be 32 to 200 characters, made at random"}}
	}
	return keyPrefix + base64.RawURLEncoding.EncodeToString(Hash(string(hashOfCode(code))+claim)), nil
}

// equal compares secrets in a time that tells nothing of them.
func equal(a, b string) bool { return subtle.ConstantTimeCompare([]byte(a), []byte(b)) == 1 }

// newCode makes groups of four characters that a person can read out, 4.9 bits each.
func newCode(groups int) string {
	b := random(4 * groups)
	var out strings.Builder
	for i, c := range b {
		if i > 0 && i%4 == 0 {
			out.WriteByte('-')
		}
		out.WriteByte(codeAlphabet[int(c)%len(codeAlphabet)])
	}
	return out.String()
}

// Hash is how secrets with 256 bits or more are kept: nobody can guess them, so that a fast hash will do.
func Hash(secret string) []byte {
	sum := sha256.Sum256([]byte(secret))
	return sum[:]
}

// checkLabel reports a key label that is not 1 to 80 printable characters.
func checkLabel(label string) error {
	if n := utf8.RuneCountInString(label); n < 1 || n > 80 || !printable(label) {
		return site.Flaws{{Field: "label", Detail: "must be 1 to 80 printable characters that say where the key is used"}}
	}
	return nil
}

// CheckPrefixes reports more than 32 prefixes, and prefixes that are not masked. Error: site.Flaws.
func CheckPrefixes(list []netip.Prefix) error {
	if len(list) > 32 {
		return fmt.Errorf("has %d prefixes; 32 are allowed", len(list))
	}
	for _, p := range list {
		if !p.IsValid() || p != p.Masked() {
			return fmt.Errorf("%s is not a prefix; write one such as 198.51.100.0/24", p)
		}
	}
	return nil
}

// NewSecret makes a secret of 256 bits for a URL, and the hash by which it is kept.
func NewSecret() (secret string, kept []byte) {
	secret = newSecret()
	return secret, Hash(secret)
}
