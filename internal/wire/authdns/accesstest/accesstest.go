// Package accesstest checks who decides on transfers and updates against what package authdns asks of it.
package accesstest

import (
	"context"
	"encoding/base64"
	"net/netip"
	"sync/atomic"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/wire/authdns"
)

// Zone is what is known of a zone: a key that may transfer it, an address that may, and updates of two keys: one that is carried out, and
// one that is refused. Names are lower-case, with a final dot.
type Zone struct {
	Apex, TransferKey string
	TransferTo        netip.Addr
	UpdateKey         string
	Taken, Refused    *dns.Msg
}

// limit is the longest that an update may wait for its answer.
const limit = 10 * time.Second

// stranger is nobody's address.
var stranger = netip.MustParseAddr("203.0.113.99")

// Check checks access to a zone.
func Check(t *testing.T, access authdns.Access, z Zone) {
	t.Helper()
	const unknown = "nobody.example."
	for _, key := range []string{z.TransferKey, z.UpdateKey} {
		algorithm, secret, ok := access.Secret(key)
		require.True(t, ok, "key %s is known", key)
		require.Contains(t, []string{dns.HmacSHA1, dns.HmacSHA224, dns.HmacSHA256, dns.HmacSHA384, dns.HmacSHA512}, algorithm)
		raw, err := base64.StdEncoding.DecodeString(secret)
		require.NoError(t, err)
		require.NotEmpty(t, raw)
	}
	for _, key := range []string{unknown, "", "."} {
		_, secret, ok := access.Secret(key)
		require.False(t, ok, "key %q is nobody's", key)
		require.Empty(t, secret)
	}

	require.True(t, access.MayTransfer(z.Apex, stranger, z.TransferKey), "whoever holds the key may transfer")
	require.True(t, access.MayTransfer(z.Apex, z.TransferTo, ""), "so may the address")
	for name, c := range map[string]struct {
		apex string
		from netip.Addr
		key  string
	}{
		"a stranger without a key":     {z.Apex, stranger, ""},
		"a stranger with another key":  {z.Apex, stranger, z.UpdateKey},
		"a stranger with no known key": {z.Apex, stranger, unknown},
		"an address that is not known": {z.Apex, netip.Addr{}, ""},
		"another zone":                 {"elsewhere.example.", z.TransferTo, z.TransferKey},
		"a zone that only ends alike":  {"x" + z.Apex, z.TransferTo, z.TransferKey},
	} {
		require.False(t, access.MayTransfer(c.apex, c.from, c.key), "%s may not transfer", name)
	}

	for _, key := range []string{z.UpdateKey, unknown} { // nobody waits for it
		began := time.Now()
		access.Unproven(key, stranger)
		require.Less(t, time.Since(began), time.Second)
	}

	require.Equal(t, dns.RcodeSuccess, updated(t, access, t.Context(), z.Taken, z.UpdateKey))
	require.Equal(t, dns.RcodeSuccess, updated(t, access, t.Context(), z.Taken, z.UpdateKey), "what is so already may be said again")
	for _, key := range []string{"", z.TransferKey, unknown} {
		require.Contains(t, []int{dns.RcodeRefused, dns.RcodeNotAuth}, updated(t, access, t.Context(), z.Taken, key), "key %q", key)
	}
	require.NotEqual(t, dns.RcodeSuccess, updated(t, access, t.Context(), z.Refused, z.UpdateKey))

	ended, end := context.WithCancel(t.Context())
	end()
	updated(t, access, ended, z.Taken, z.UpdateKey)

	codes := make(chan int, 8)
	for range cap(codes) {
		go func() { codes <- updated(t, access, context.Background(), z.Taken, z.UpdateKey) }()
	}
	for range cap(codes) {
		require.Equal(t, dns.RcodeSuccess, <-codes, "several ask at once")
	}
}

// updated returns the RCODE of an update, which is replied to once, and without keeping the caller.
func updated(t *testing.T, access authdns.Access, ctx context.Context, m *dns.Msg, key string) int {
	replies := make(chan int, 2)
	var most atomic.Bool
	began := time.Now()
	access.Update(ctx, m.Copy(), key, stranger, func(rcode int, more bool) {
		if more && most.Swap(true) {
			t.Errorf("an update alone is the last")
		}
		replies <- rcode
	})
	if took := time.Since(began); took > time.Second {
		t.Errorf("an update kept its caller for %s", took)
	}
	select {
	case rcode := <-replies:
		if len(replies) > 0 {
			t.Errorf("an update was replied to more than once")
		}
		return rcode
	case <-time.After(limit):
		t.Errorf("an update was not replied to in %s", limit)
		return -1
	}
}
