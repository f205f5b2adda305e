package authdns

import (
	"net/netip"
	"testing"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/require"
)

func TestANewSerialChangesNothingElse(t *testing.T) {
	soa := &dns.SOA{Hdr: dns.RR_Header{Name: "isles.example.", Rrtype: dns.TypeSOA, Class: dns.ClassINET, Ttl: 300},
		Ns: "ns1.isles.example.", Mbox: "hostmaster.isles.example.",
		Serial: 7, Refresh: 3600, Retry: 300, Expire: 1209600, Minttl: 30}
	before, err := encodeSOA(soa)
	require.NoError(t, err)
	want := *soa
	want.Serial = 4294967295
	direct, err := encodeSOA(&want)
	require.NoError(t, err)
	require.Equal(t, direct, before.withSerial(4294967295), "as if it had been encoded anew")
	require.EqualValues(t, 7, before.record.Serial, "readers keep what they have")
}

func TestAddressesAreEncodedAsRecordsAre(t *testing.T) {
	for _, text := range []string{"198.51.100.7", "2001:db8::7", "::ffff:198.51.100.7"} {
		a := netip.MustParseAddr(text)
		rr := dns.RR(&dns.A{Hdr: dns.RR_Header{Name: "ket-07.isles.example.", Rrtype: dns.TypeA, Class: dns.ClassINET, Ttl: 30},
			A: a.AsSlice()})
		if !a.Is4() {
			rr = &dns.AAAA{Hdr: dns.RR_Header{Name: "ket-07.isles.example.", Rrtype: dns.TypeAAAA, Class: dns.ClassINET, Ttl: 30},
				AAAA: a.AsSlice()}
		}
		want, err := NewRRset(rr)
		require.NoError(t, err)
		require.Equal(t, want, AddressSet(a, 30), text)
	}
}
