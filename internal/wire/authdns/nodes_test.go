package authdns

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"net/netip"
	"testing"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/require"
)

// TestNamesOfTheSameHashAreToldApart adds and removes names of which hundreds share each hash, and asks for all of them.
func TestNamesOfTheSameHashAreToldApart(t *testing.T) {
	z := rich(t)
	asked := Directory{}
	asked.Put(z)
	z.nodes.mask = 1
	for i := range z.nodes.shards { // those that came before hash anew
		z.nodes.shards[i].Store(nil)
	}
	z.nodes.count.Store(0)
	require.NoError(t, z.change(Names{apex: []RRset{AddressSet(netip.MustParseAddr("198.51.100.1"), 30)}}, nil))

	random := rand.New(rand.NewPCG(1, 2))
	held := map[string]netip.Addr{}
	for range 60 {
		content := Names{}
		for range 20 {
			name := fmt.Sprintf("n%d.%s", random.IntN(300), apex)
			if random.IntN(3) == 0 {
				content[name] = nil
				delete(held, name)
				continue
			}
			held[name] = netip.AddrFrom4([4]byte{203, 0, 113, byte(random.IntN(256))})
			content[name] = []RRset{AddressSet(held[name], 30)}
		}
		require.NoError(t, z.change(content, nil))
	}
	require.EqualValues(t, len(held)+1, z.nodes.count.Load())

	var listed []string
	z.nodes.each(func(n *node) { listed = append(listed, n.name) })
	want := []string{}
	for name := range maps.Keys(held) {
		k, err := key(name)
		require.NoError(t, err)
		want = append(want, k)
	}
	require.ElementsMatch(t, append(want, z.apex), listed)
	for i := range 300 {
		name := fmt.Sprintf("n%d.%s", i, apex)
		m, out := new(dns.Msg), make([]byte, replySize)
		m.SetQuestion(name, dns.TypeA)
		req, err := m.Pack()
		require.NoError(t, err)
		require.NoError(t, m.Unpack(out[:asked.respond(req, out, false)]))
		at, is := held[name]
		if !is {
			require.Equal(t, dns.RcodeNameError, m.Rcode, name)
			continue
		}
		require.Len(t, m.Answer, 1, name)
		require.Equal(t, at.String(), m.Answer[0].(*dns.A).A.String())
	}
}

// TestAQueryIsReadAnew: one that is used again shows nothing of the question before.
func TestAQueryIsReadAnew(t *testing.T) {
	d := Directory{}
	d.Put(rich(t))
	var used query
	out, again := make([]byte, replySize), make([]byte, replySize)
	for _, question := range []string{"far.", "ket.", "a.ket.", "lamp.", "deep.away.", "nobody.", "ket."} {
		for _, edns := range []bool{true, false} {
			m := new(dns.Msg)
			m.SetQuestion(question+apex, dns.TypeA)
			if edns {
				m.SetEdns0(4096, true)
			}
			req, err := m.Pack()
			require.NoError(t, err)
			n := d.answerTo(&used, req, again, false)
			require.Equal(t, out[:d.respond(req, out, false)], again[:n], question)
		}
	}
	require.Zero(t, d.answerTo(&used, []byte{1, 2}, again, false))
	require.Zero(t, used.nameLen)
}
