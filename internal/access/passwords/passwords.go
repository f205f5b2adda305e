// Package passwords keeps passwords, compares them, and says which are guessed too soon.
package passwords

import (
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
	least = 10 // octets
	// Most is how many octets a password may have.
	Most = 200
	// strongEnough is the least score of zxcvbn, from 0 to 4: "safely unguessable" at a hash that is slow.
	strongEnough = 3
	// weighed is how much of a password is weighed: the time that takes grows with the square of it.
	weighed = 64
)

// Hash makes what is kept of a password. Error: a system without random numbers.
func Hash(password string) ([]byte, error) {
	h, err := argon2id.CreateHash(password, &passwordCost)
	return []byte(h), err
}

// Matches compares a password with what is kept of it. stale says that it was kept in an older way, and should be kept anew.
func Matches(kept []byte, password string) (right, stale bool) {
	if strings.HasPrefix(string(kept), "$argon2id$") {
		right, _ = argon2id.ComparePasswordAndHash(password, string(kept))
		return right, false
	}
	return bcrypt.CompareHashAndPassword(kept, []byte(password)) == nil, true
}

// Absent is compared against when no such person exists, so that the answer takes as long.
var Absent = sync.OnceValue(func() []byte {
	h, _ := Hash("nobody")
	return h
})

// Check refuses what is short, or is guessed soon: one of the tens of thousands of passwords that are used most, a name, a word, a
// date, a pattern of keys. Error: site.Flaws.
func Check(name, password string) error {
	flaw := func(detail string) error { return site.Flaws{{Field: "password", Detail: detail}} }
	if n := len(password); n < least || n > Most {
		return flaw(fmt.Sprintf("has %d octets; %d to %d are allowed", n, least, Most))
	}
	score := zxcvbn.PasswordStrength(password[:min(len(password), weighed)], []string{name, "inkpost", "ink post", "ink-post"})
	beside := strings.ReplaceAll(strings.ToLower(password), strings.ToLower(name), "")
	if score.Score < strongEnough || len(name) > 2 && len(beside) < len(password)-len(name) && len(beside) < least {
		return flaw("is guessed soon: it is a password that many use, or a name, a date or a pattern; take a few words that have nothing " +
			"to do with each other")
	}
	return nil
}
