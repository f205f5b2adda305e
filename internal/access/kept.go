package access

import (
	"context"

	"inkpost.example/inkpost/internal/access/passwords"
)

// keepPassword checks a password that somebody chose, and makes what is kept of it. Errors: site.Flaws, ErrHashing.
func (a *Access) keepPassword(ctx context.Context, name, given string) (kept []byte, err error) {
	if err := passwords.Check(name, given); err != nil {
		return nil, err
	}
	var failed error
	err = a.hasher.Do(ctx, func() { kept, failed = passwords.Hash(given) })
	if err == nil {
		err = failed
	}
	return kept, err
}

// compare compares a password with what is kept of it. Error: ErrHashing.
func (a *Access) compare(ctx context.Context, kept []byte, given string) (right, stale bool, err error) {
	err = a.hasher.Do(ctx, func() { right, stale = passwords.Matches(kept, given) })
	return right, stale, err
}
