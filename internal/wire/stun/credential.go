package stun

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
)

// CredentialOf derives an agent's short-term credential (RFC 8489 section 9.1) from the SHA-256 hash of its key, of 32 octets, which is
// all that the server knows of the key. Neither can be derived from the credential.
func CredentialOf(keyHash []byte) Credential {
	m := hmac.New(sha256.New, keyHash)
	m.Write([]byte("stun"))
	return Credential{Username: hex.EncodeToString(keyHash[:8]), Password: hex.EncodeToString(m.Sum(nil))}
}
