package daemon

import "inkpost.example/inkpost/internal/store/seal"

// SecretRing is the keys by which secrets are sealed in the database.
type SecretRing = seal.Ring

// ReadSecretRing reads a file of such keys. Error: a line that is no key, no key at all.
func ReadSecretRing(file []byte) (SecretRing, error) { return seal.Read(file) }

// NewSecretKey makes a key, as a line of such a file.
func NewSecretKey() string { return seal.NewKey() }
