package daemon_test

import (
	"encoding/binary"
	"net"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/contract"
)

func TestSignaturesAreChecked(t *testing.T) {
	s, key := routers(t)
	u := update{t, s, key}
	edit := func(m *dns.Msg) { m.Insert([]dns.RR{rrOf(t, ket+" 60 A 198.51.100.7")}) }
	const wrong = "bm90IHRoZSBzZWNyZXQgb2YgdGhpcyBrZXkgYXQgYWxs"
	for name, c := range map[string]struct {
		key, secret, algorithm string
		signed                 time.Time
		rcode                  int
		failure                uint16
	}{
		"unsigned":          {"", "", "", time.Now(), dns.RcodeRefused, 0},
		"unknown key":       {"nobody.example", wrong, dns.HmacSHA256, time.Now(), dns.RcodeNotAuth, dns.RcodeBadKey},
		"another algorithm": {key.Name, key.Secret, dns.HmacSHA512, time.Now(), dns.RcodeNotAuth, dns.RcodeBadKey},
		"another secret":    {key.Name, wrong, dns.HmacSHA256, time.Now(), dns.RcodeNotAuth, dns.RcodeBadSig},
		"an old signature":  {key.Name, key.Secret, dns.HmacSHA256, time.Now().Add(-10 * time.Minute), dns.RcodeNotAuth, dns.RcodeBadTime},
		"one of tomorrow":   {key.Name, key.Secret, dns.HmacSHA256, time.Now().Add(24 * time.Hour), dns.RcodeNotAuth, dns.RcodeBadTime},
	} {
		t.Run(name, func(t *testing.T) {
			r, err := u.send(c.key, c.secret, c.algorithm, c.signed, edit)
			require.NotNil(t, r, "%v", err)
			require.Equal(t, c.rcode, r.Rcode)
			if c.failure == 0 {
				require.Nil(t, r.IsTsig())
				return
			}
			tsig := r.IsTsig()
			require.NotNil(t, tsig)
			require.Equal(t, c.failure, tsig.Error)
			require.Equal(t, c.failure == dns.RcodeBadTime, tsig.MACSize > 0, "only a failure of time is signed (RFC 8945 section 5.3.2)")
			if c.failure == dns.RcodeBadTime {
				require.EqualValues(t, 6, tsig.OtherLen, "our clock goes along")
				ours, err := strconv.ParseUint(tsig.OtherData, 16, 64)
				require.NoError(t, err)
				require.InDelta(t, time.Now().Unix(), ours, 60)
				require.EqualValues(t, c.signed.Unix(), tsig.TimeSigned, "or else the client could not check it")
			}
		})
	}
	_, _, rcode := answers(t, s.DNS, "ket-07."+zone)
	require.Equal(t, dns.RcodeNameError, rcode, "nothing was done")
	transfer, err := s.Client.AddSigningKey(t.Context(), contract.SigningKeyInput{Name: "transfer.example", Algorithm: "hmac-sha512"})
	require.NoError(t, err)
	r, err := u.send(transfer.Name, transfer.Secret, dns.HmacSHA512, time.Now(), edit)
	require.NoError(t, err)
	require.Equal(t, dns.RcodeRefused, r.Rcode, "a key for transfers updates nothing")

	counted := new(dns.Msg).SetUpdate(zone + ".")
	edit(counted)
	counted.SetTsig(key.Name+".", dns.HmacSHA256, 300, time.Now().Unix())
	raw, _, err := dns.TsigGenerate(counted, key.Secret, "", false)
	require.NoError(t, err)
	binary.BigEndian.PutUint16(raw[10:], 2) // additional records; there is one
	conn, err := net.Dial("udp", s.DNS)
	require.NoError(t, err)
	defer conn.Close()
	require.NoError(t, conn.SetDeadline(time.Now().Add(5*time.Second)))
	_, err = conn.Write(raw)
	require.NoError(t, err)
	back := make([]byte, 512)
	n, err := conn.Read(back)
	require.NoError(t, err)
	require.NoError(t, r.Unpack(back[:n]))
	require.Equal(t, dns.RcodeFormatError, r.Rcode, "more records counted than there are")

	m := new(dns.Msg).SetQuestion(zone+".", dns.TypeSOA)
	m.SetTsig(key.Name+".", dns.HmacSHA256, 300, time.Now().Unix())
	c := dns.Client{TsigSecret: map[string]string{key.Name + ".": key.Secret}}
	r, _, err = c.Exchange(m, s.DNS)
	require.NoError(t, err, "the reply's signature holds")
	require.Len(t, r.Answer, 1)
	require.NotNil(t, r.IsTsig())
	require.NoError(t, s.Client.RemoveSigningKey(t.Context(), key.Name))
	r, _ = u.send(key.Name, key.Secret, dns.HmacSHA256, time.Now(), edit)
	require.Equal(t, dns.RcodeNotAuth, r.Rcode, "a key that was removed is unknown at once")
}

func TestUpdatesWithAWrongSecretBecomeVisibleAtTheSite(t *testing.T) {
	s, k := routers(t)
	u := update{t, s, k}
	for range 3 {
		_, _ = u.send(k.Name, "d3Jvbmcgc2VjcmV0IG9mIGEgcm91dGVyIHNvbWV3aGVyZQ==", dns.HmacSHA256, time.Now(),
			func(m *dns.Msg) { m.Insert([]dns.RR{rrOf(t, ket+" 30 A 198.51.100.9")}) })
		_, _ = u.send("nobody.saltmarsh.example", "d3Jvbmcgc2VjcmV0IG9mIGEgcm91dGVyIHNvbWV3aGVyZQ==", dns.HmacSHA256, time.Now(),
			func(m *dns.Msg) { m.Insert([]dns.RR{rrOf(t, ket+" 30 A 198.51.100.9")}) })
	}
	require.EventuallyWithT(t, func(c *assert) {
		l, err := s.Client.Link(t.Context(), "KET-07", "main")
		require.NoError(c, err)
		require.NotNil(c, l.Report)
		require.Len(c, l.Report.Refused, 1)
		require.Equal(c, 3, l.Report.Refused[0].Count)
		require.Contains(c, l.Report.Refused[0].Reason, "an update is signed with a wrong secret")
	}, 10*time.Second, 50*time.Millisecond)
}

func TestASignatureIsTheLastRecordAndTheOnlyOne(t *testing.T) {
	s, key := routers(t)
	require.Equal(t, "NOERROR", update{t, s, key}.rcode(func(m *dns.Msg) { m.Insert([]dns.RR{rrOf(t, ket+" 60 A 198.51.100.7")}) }))
	signed := func() []byte {
		m := new(dns.Msg).SetQuestion(ket, dns.TypeA).SetTsig(key.Name+".", dns.HmacSHA256, 300, time.Now().Unix())
		packet, _, err := dns.TsigGenerate(m, key.Secret, "", false)
		require.NoError(t, err)
		return packet
	}
	plain, err := new(dns.Msg).SetQuestion(ket, dns.TypeA).Pack()
	require.NoError(t, err)
	tsig := signed()[len(plain):]
	more := func(packet []byte, records ...[]byte) []byte {
		out := append([]byte(nil), packet...)
		for _, r := range records {
			out = append(out, r...)
		}
		binary.BigEndian.PutUint16(out[10:], uint16(len(records)))
		return out
	}
	a := []byte{0, 0, 1, 0, 1, 0, 0, 0, 60, 0, 4, 198, 51, 100, 7}
	empty := append(append([]byte(nil), tsig[:strings.IndexByte(string(tsig), 0)+1]...), 0, 250, 0, 255, 0, 0, 0, 0, 0, 0)
	loop := append([]byte{0xC0, byte(len(plain))}, a[1:]...) // a pointer to itself
	ahead := append([]byte{0xC0, byte(len(plain) + 4)}, a[1:]...)
	back := append([]byte{0xC0, 12}, a[1:]...) // to the question's name, as is usual
	send := func(packet []byte) *dns.Msg {
		c, err := net.Dial("udp", s.DNS)
		require.NoError(t, err)
		defer c.Close()
		_, err = c.Write(packet)
		require.NoError(t, err)
		require.NoError(t, c.SetReadDeadline(time.Now().Add(3*time.Second)))
		buffer := make([]byte, 4096)
		n, err := c.Read(buffer)
		require.NoError(t, err)
		r := new(dns.Msg)
		require.NoError(t, r.Unpack(buffer[:n]))
		return r
	}
	for name, x := range map[string]struct {
		packet []byte
		want   string
	}{
		"as it should be": {signed(), "NOERROR"}, "two": {more(plain, tsig, tsig), "FORMERR"},
		"not the last": {more(plain, tsig, a), "FORMERR"},
		"without data": {more(plain, empty), "FORMERR"}, "a pointer to itself": {more(plain, loop), "FORMERR"},
		"a pointer ahead": {more(plain, ahead), "FORMERR"},
		"a pointer back":  {more(plain, back), "NOERROR"},
	} {
		require.Equal(t, x.want, dns.RcodeToString[send(x.packet).Rcode], name)
	}
	for _, do := range []bool{true, false} {
		m := new(dns.Msg).SetQuestion(ket, dns.TypeA).SetEdns0(1232, do)
		packet, err := m.Pack()
		require.NoError(t, err)
		require.Equal(t, do, send(packet).IsEdns0().Do(), "DO is copied (RFC 3225 section 3)")
	}
}
