package authdns

import (
	"encoding/hex"
	"fmt"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/require"
)

const secret = "c2xpcHdheS1nYW5uZXQta2V0dGxlLWZlcnJ5LTAwMDE="

// signed is a request with a signature made by another implementation, and the MAC in it.
func signed(t *testing.T, m *dns.Msg, algorithm string, at time.Time) (packet []byte, mac string) {
	t.Helper()
	m.SetTsig("KEY.Saltmarsh.example.", algorithm, 300, at.Unix())
	packet, mac, err := dns.TsigGenerate(m, secret, "", false)
	require.NoError(t, err)
	return packet, mac
}

func TestSignaturesAreThoseOfOtherImplementations(t *testing.T) {
	now := time.Now()
	for _, algorithm := range []string{dns.HmacSHA256, dns.HmacSHA512} {
		for name, m := range map[string]*dns.Msg{
			"a question": new(dns.Msg).SetQuestion("ket-07.isles.example.", dns.TypeA),
			"one with EDNS": func() *dns.Msg {
				m := new(dns.Msg).SetQuestion("ket-07.isles.example.", dns.TypeA)
				m.SetEdns0(1232, false)
				return m
			}(),
			"an update": func() *dns.Msg {
				m := new(dns.Msg).SetUpdate("isles.example.")
				a, err := dns.NewRR("KET-07.isles.example. 60 A 198.51.100.7")
				require.NoError(t, err)
				m.Used([]dns.RR{a})
				m.Insert([]dns.RR{a})
				return m
			}(),
		} {
			t.Run(fmt.Sprintf("%s by %s", name, algorithm), func(t *testing.T) {
				packet, theirs := signed(t, m, algorithm, now)
				k, ok := newKeyed("key.saltmarsh.example.", algorithm, secret)
				require.True(t, ok)
				at := stamp{time: uint64(now.Unix()), fudge: 300, original: m.Id}
				ours := k.digest(nil, unsigned(packet), at, false)
				require.Equal(t, theirs, hex.EncodeToString(ours))

				// A reply of three messages: the first signs everything, the others what came before and the time.
				g := signer{name: "key.saltmarsh.example.", algorithm: algorithm, key: k, mac: ours}
				prior := theirs
				for i := range 3 {
					reply, err := new(dns.Msg).SetReply(m).Pack()
					require.NoError(t, err)
					out := g.sign(reply, now)
					var read dns.Msg
					require.NoError(t, read.Unpack(out))
					require.NoError(t, dns.TsigVerify(out, secret, prior, i > 0), "message %d", i) // takes the record away
					prior = read.IsTsig().MAC
				}
			})
		}
	}
}

func TestKeysThatCannotSign(t *testing.T) {
	for name, c := range map[string][3]string{
		"an old algorithm": {"key.example.", dns.HmacMD5, secret},
		"no base64":        {"key.example.", dns.HmacSHA256, "not base64!"},
		"no name":          {"a..b.", dns.HmacSHA256, secret},
	} {
		_, ok := newKeyed(c[0], c[1], c[2])
		require.False(t, ok, name)
	}
	var ring keyring
	first, ok := ring.of("key.example.", dns.HmacSHA256, secret)
	require.True(t, ok)
	again, _ := ring.of("key.example.", dns.HmacSHA256, secret)
	require.Same(t, first, again, "a key's hashes are kept")
	other, _ := ring.of("key.example.", dns.HmacSHA256, "b3RoZXIgc2VjcmV0IG9mIHRoaXMga2V5")
	require.NotSame(t, first, other, "a new secret takes effect at once")
	for i := range maxRing + 1 {
		_, ok := ring.of(fmt.Sprintf("key-%d.example.", i), dns.HmacSHA256, secret)
		require.True(t, ok)
	}
	require.LessOrEqual(t, len(ring.keys), maxRing)
}

func TestWhatIsNotSignedAtTheEnd(t *testing.T) {
	packet, _ := signed(t, new(dns.Msg).SetQuestion("ket-07.isles.example.", dns.TypeA), dns.HmacSHA256, time.Now())
	require.True(t, isSlow(packet))
	for cut := range len(packet) { // whatever is missing, nothing is read beyond the end
		short := append([]byte(nil), packet[:cut]...)
		if cut < headerSize {
			require.False(t, isSlow(short))
			continue
		}
		isSlow(short)
		unsigned(short)
	}
	packet[11] = 9 // records counted that are not there
	require.Nil(t, unsigned(packet))
}
