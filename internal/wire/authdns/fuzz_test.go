package authdns

import (
	"context"
	"net/netip"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/require"
)

// oneKey knows one TSIG key, hands no zone out, and notes whose updates it was given.
type oneKey struct{ updatedBy *string }

func (oneKey) Secret(name string) (algorithm, key string, ok bool) {
	return dns.HmacSHA256, secret, name == "key.saltmarsh.example."
}
func (oneKey) MayTransfer(string, netip.Addr, string) bool { return false }
func (oneKey) Unproven(string, netip.Addr)                 {}
func (k oneKey) Update(_ context.Context, _ *dns.Msg, keyName string, _ netip.Addr, reply func(int, bool)) {
	*k.updatedBy = keyName
	reply(dns.RcodeNotImplemented, false)
}

// Whatever comes in, each reply is a message, and nobody is taken for the holder of a key whose signature another implementation
// does not accept.
func FuzzSlow(f *testing.F) {
	d := &Directory{}
	d.Put(rich(f))
	for _, m := range []*dns.Msg{new(dns.Msg).SetQuestion(apex, dns.TypeA), new(dns.Msg).SetAxfr(apex), new(dns.Msg).SetUpdate(apex)} {
		plain, err := m.Pack()
		require.NoError(f, err)
		f.Add(plain)
		m.SetTsig("KEY.Saltmarsh.example.", dns.HmacSHA256, 300, time.Now().Unix())
		packet, _, err := dns.TsigGenerate(m, secret, "", false)
		require.NoError(f, err)
		f.Add(packet)
		f.Add(packet[:len(packet)-7])
	}
	f.Fuzz(func(t *testing.T, req []byte) {
		if !isSlow(req) {
			return // it does not get here
		}
		s := &Server{directory: d}
		updatedBy := ""
		s.Allow(oneKey{&updatedBy})
		for _, tcp := range []bool{false, true} {
			_ = s.slow(t.Context(), append([]byte(nil), req...),
				caller{from: netip.MustParseAddr("198.51.100.7"), tcp: tcp, write: func(text []byte, _ bool) error {
					var reply dns.Msg
					require.NoError(t, reply.Unpack(text))
					require.True(t, reply.Response)
					return nil
				}})
		}
		if updatedBy != "" {
			require.NoError(t, dns.TsigVerify(append([]byte(nil), req...), secret, "", false))
		}
	})
}
