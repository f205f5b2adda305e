package access

import (
	"context"
	"fmt"
	"strings"
	"sync"

	"github.com/alexedwards/argon2id"
	"github.com/trustelem/zxcvbn"
	"golang.org/x/crypto/bcrypt"

	"inkpost.example/inkpost/internal/core/site"
)

// Passwords are kept as argon2id (RFC 9106) with what OWASP asks of servers: 46 MB, one pass.
var passwordCost = argon2id.Params{Memory: 46 * 1024, Iterations: 1, Parallelism: 1, SaltLength: 16, KeyLength: 32}

const (
	leastPassword = 10  // octets
	mostPassword  = 200 // octets
	// strongEnough is the least score of zxcvbn, from 0 to 4: "safely unguessable" at a hash that is slow.
	strongEnough = 3
	// weighed is how much of a password is weighed: the time that takes grows with the square of it.
	weighed = 64
)

// hashPassword makes what is kept of a password.
func hashPassword(password string) ([]byte, error) {
	h, err := argon2id.CreateHash(password, &passwordCost)
	return []byte(h), err
}

// matches compares a password with what is kept of it. stale says that it was kept in an older way, and should be kept anew.
func matches(kept []byte, password string) (right, stale bool) {
	if strings.HasPrefix(string(kept), "$argon2id$") {
		right, _ = argon2id.ComparePasswordAndHash(password, string(kept))
		return right, false
	}
	return bcrypt.CompareHashAndPassword(kept, []byte(password)) == nil, true
}

// absent is compared against when no such person exists, so that the answer takes as long.
var absent = sync.OnceValue(func() []byte {
	h, _ := hashPassword("nobody")
	return h
})

// checkPassword refuses what is short, or is guessed soon: one of the tens of thousands of passwords that are used most, a name, a word, a
// date, a pattern of keys. Error: site.Flaws.
func checkPassword(name, password string) error {
	flaw := func(detail string) error { return site.Flaws{{Field: "password", Detail: detail}} }
	if n := len(password); n < leastPassword || n > mostPassword {
		return flaw(fmt.Sprintf("has %d octets; %d to %d are allowed", n, leastPassword, mostPassword))
	}
	score := zxcvbn.PasswordStrength(password[:min(len(password), weighed)], []string{name, "inkpost", "ink post", "ink-post"})
	if score.Score < strongEnough {
		return flaw("is guessed soon: it is a password that many use, or a name, a date or a pattern; take a few words that have nothing " +
			"to do with each other")
	}
	return nil
}

// keepPassword checks a password that somebody chose, and makes what is kept of it. Errors: site.Flaws, ErrHashing.
func (a *Access) keepPassword(ctx context.Context, name, password string) (kept []byte, err error) {
	if err := checkPassword(name, password); err != nil {
		return nil, err
	}
	var failed error
	err = a.hasher.Do(ctx, func() { kept, failed = hashPassword(password) })
	if err == nil {
		err = failed
	}
	return kept, err
}

// compare compares a password with what is kept of it. Error: ErrHashing.
func (a *Access) compare(ctx context.Context, kept []byte, password string) (right, stale bool, err error) {
	err = a.hasher.Do(ctx, func() { right, stale = matches(kept, password) })
	return right, stale, err
}
