// Package relay carries what clients ask of a server that does not write to the one that does. The request stays as it is; a header says
// whom it is relayed for, and is signed with a key that only servers on the same database know.
package relay

import (
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/hex"
	"errors"
	"fmt"
	"net/http"
	"net/netip"
	"net/url"
	"strconv"
	"strings"
	"time"
)

// Header says whom a request is relayed for.
const Header = "Inkpost-Relayed"

// validFor is how long a signature is believed, in either direction: the servers' clocks may differ a little.
const validFor = time.Minute

// ErrNotOurs reports a request that says that it is relayed, and was not signed by a server on the same database in the last minute.
var ErrNotOurs = errors.New("this request says that it is relayed, and no server on this database has signed it")

// Way is how the server that writes is reached.
type Way struct {
	URL *url.URL
	Key []byte // what it believes
}

// From is the client that a request is relayed for. Secure says that it speaks TLS.
type From struct {
	Address netip.Addr
	Secure  bool
}

// NewKey makes a key. There is one for as long as a server writes.
func NewKey() []byte {
	key := make([]byte, sha256.Size)
	_, _ = rand.Read(key) // it never fails
	return key
}

// Sign says in a request whom it is relayed for.
func Sign(r *http.Request, key []byte, from From, now time.Time) {
	said := fmt.Sprintf("%s %t %d", from.Address, from.Secure, now.Unix())
	r.Header.Set(Header, said+" "+hex.EncodeToString(mac(r, key, said)))
}

// Relayed reports whether a request says that it is relayed.
func Relayed(r *http.Request) bool { return r.Header.Get(Header) != "" }

// Read says whom a request is relayed for. Error: ErrNotOurs.
func Read(r *http.Request, key []byte, now time.Time) (from From, err error) {
	parts := strings.Fields(r.Header.Get(Header))
	if len(parts) != 4 || len(key) == 0 {
		return from, ErrNotOurs
	}
	given, err := hex.DecodeString(parts[3])
	if err != nil || subtle.ConstantTimeCompare(given, mac(r, key, strings.Join(parts[:3], " "))) != 1 {
		return from, ErrNotOurs
	}
	at, err := strconv.ParseInt(parts[2], 10, 64)
	if err != nil || now.Sub(time.Unix(at, 0)).Abs() > validFor {
		return from, ErrNotOurs
	}
	if from.Address, err = netip.ParseAddr(parts[0]); err != nil {
		return from, ErrNotOurs
	}
	from.Secure = parts[1] == "true"
	return from, nil
}

// mac signs what is said for one method and one path: what was signed for one request is of no use for another.
func mac(r *http.Request, key []byte, said string) []byte {
	h := hmac.New(sha256.New, key)
	_, _ = fmt.Fprintf(h, "%s\n%s\n%s", r.Method, r.URL.RequestURI(), said)
	return h.Sum(nil)
}
