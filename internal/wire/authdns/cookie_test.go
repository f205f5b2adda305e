package authdns

import (
	"encoding/hex"
	"net/netip"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/require"
)

// Values of RFC 9018 appendix A.
func TestServerCookiesAreThoseOfTheStandard(t *testing.T) {
	secret, err := hex.DecodeString("e5e973e5a6b2a43f48e7dc849e37bfcf")
	require.NoError(t, err)
	var j cookieSecret
	for i := range 8 {
		j.k0 |= uint64(secret[i]) << (8 * i)
		j.k1 |= uint64(secret[8+i]) << (8 * i)
	}
	client, err := hex.DecodeString("2464c4abcf10c957")
	require.NoError(t, err)
	var out [serverCookie]byte
	j.make(out[:], client, netip.MustParseAddr("198.51.100.100"), time.Unix(1559731985, 0))
	require.Equal(t, "010000005cf79f111f8130c3eee29480", hex.EncodeToString(out[:]))
}

func TestACookieSparesAClientTheLimit(t *testing.T) {
	s := limited(t, 5)
	ask := func(cookie string) (answer *dns.Msg) {
		m := new(dns.Msg).SetQuestion("ket-07."+apex, dns.TypeA)
		m.SetEdns0(1232, false)
		if cookie != "" {
			m.IsEdns0().Option = append(m.IsEdns0().Option, &dns.EDNS0_COOKIE{Code: dns.EDNS0COOKIE, Cookie: cookie})
		}
		c := dns.Client{Timeout: 200 * time.Millisecond}
		answer, _, _ = c.Exchange(m, s.Addr())
		return answer
	}
	cookieOf := func(m *dns.Msg) string {
		for _, o := range m.IsEdns0().Option {
			if c, is := o.(*dns.EDNS0_COOKIE); is {
				return c.Cookie
			}
		}
		return ""
	}
	const mine = "2464c4abcf10c957"
	first := ask(mine)
	require.NotNil(t, first)
	whole := cookieOf(first)
	require.Len(t, whole, 48)
	require.Equal(t, mine, whole[:16])
	require.Empty(t, cookieOf(ask("")), "who brings none gets none")
	for range 40 {
		m := ask(whole)
		require.NotNil(t, m, "a client that is known is not limited")
		require.False(t, m.Truncated)
	}
	require.Eventually(t, func() bool {
		m := ask(mine + "01000000" + "5cf79f11" + "0000000000000000")
		return m == nil || m.Truncated
	}, 5*time.Second, time.Millisecond, "a forged one does not help")
	for _, length := range []int{2, 14, 18, 30, 82} {
		long := mine + mine + mine + mine + mine + mine
		m := ask(long[:length])
		require.True(t, m == nil || m.Truncated || m.Rcode == dns.RcodeFormatError, "a cookie of %d digits", length)
	}
}
