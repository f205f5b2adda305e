package authdns

import (
	"context"
	"encoding/binary"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"net"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/require"
)

func rr(t testing.TB, text string) dns.RR {
	t.Helper()
	r, err := dns.NewRR(text)
	require.NoError(t, err)
	return r
}

func set(t testing.TB, texts ...string) RRset {
	t.Helper()
	var list []dns.RR
	for _, s := range texts {
		list = append(list, rr(t, s))
	}
	out, err := NewRRset(list...)
	require.NoError(t, err)
	return out
}

const apex = "isles.saltmarsh.example."

func zone(t testing.TB) *Zone {
	t.Helper()
	var many []string
	for i := range 60 {
		many = append(many, fmt.Sprintf("many.%s 30 A 198.51.100.%d", apex, i+1))
	}
	z, err := NewZone(rr(t, apex+" 300 SOA ns1."+apex+" hostmaster."+apex+" 7 3600 300 1209600 30").(*dns.SOA), Names{
		apex:             {set(t, apex+" 300 NS ns1."+apex)},
		"ns1." + apex:    {set(t, "ns1."+apex+" 300 A 198.51.100.1")},
		"ket-07." + apex: {set(t, "ket-07."+apex+" 30 A 198.51.100.7"), set(t, "ket-07."+apex+" 30 AAAA 2001:db8::7")},
		"a.b.c." + apex:  {set(t, "a.b.c."+apex+" 30 A 198.51.100.9")},
		"many." + apex:   {set(t, many...)},
	})
	require.NoError(t, err)
	return z
}

func serve(t testing.TB) (*Server, *Zone) { return serveAt(t, "127.0.0.1:0") }

func serveAt(t testing.TB, address string) (*Server, *Zone) {
	t.Helper()
	d := &Directory{}
	z := zone(t)
	d.Put(z)
	s, err := Listen(address, d, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	ctx, stop := context.WithCancel(context.Background())
	var wg sync.WaitGroup
	wg.Go(func() { _ = s.Serve(ctx) })
	t.Cleanup(func() { stop(); wg.Wait() })
	return s, z
}

func ask(t testing.TB, s *Server, network, name string, qtype uint16, edit func(*dns.Msg)) *dns.Msg {
	t.Helper()
	m := new(dns.Msg).SetQuestion(name, qtype)
	if edit != nil {
		edit(m)
	}
	c := dns.Client{Net: network, Timeout: 2 * time.Second, UDPSize: 4096}
	r, _, err := c.Exchange(m, s.Addr())
	require.NoError(t, err)
	require.Equal(t, m.Question, r.Question, "the question comes back as it was written")
	return r
}

// A server that listens at every address answers from the one that was asked: whoever asks drops replies from another.
func TestAWildcardSocketAnswersFromTheAddressThatWasAsked(t *testing.T) {
	t.Parallel()
	for _, listen := range []string{":0", "0.0.0.0:0", "[::]:0"} {
		s, _ := serveAt(t, listen)
		_, port, err := net.SplitHostPort(s.Addr())
		require.NoError(t, err)
		for _, asked := range []string{"127.0.0.1", "127.0.0.9", "::1"} {
			if asked == "::1" && listen == "0.0.0.0:0" {
				continue // it has no IPv6
			}
			for _, network := range []string{"udp", "tcp"} {
				for _, qtype := range []uint16{dns.TypeA, dns.TypeTXT, dns.TypeNS} {
					c := dns.Client{Net: network, Timeout: 2 * time.Second}
					r, _, err := c.Exchange(new(dns.Msg).SetQuestion("ket-07."+apex, qtype), net.JoinHostPort(asked, port))
					require.NoError(t, err, "%s at %s over %s", listen, asked, network)
					require.Equal(t, dns.RcodeSuccess, r.Rcode)
				}
			}
		}
	}
}

func TestAnswers(t *testing.T) {
	s, _ := serve(t)
	for _, network := range []string{"udp", "tcp"} {
		for _, c := range []struct {
			name     string
			qtype    uint16
			rcode    int
			answers  []string
			negative bool
		}{
			{"ket-07." + apex, dns.TypeA, dns.RcodeSuccess, []string{"198.51.100.7"}, false},
			{"KeT-07.Isles.SALTMARSH.example.", dns.TypeAAAA, dns.RcodeSuccess, []string{"2001:db8::7"}, false},
			{"ket-07." + apex, dns.TypeMX, dns.RcodeSuccess, nil, true},
			{"nobody." + apex, dns.TypeA, dns.RcodeNameError, nil, true},
			{"below.ket-07." + apex, dns.TypeA, dns.RcodeNameError, nil, true},
			{"c." + apex, dns.TypeA, dns.RcodeSuccess, nil, true},
			{"b.c." + apex, dns.TypeA, dns.RcodeSuccess, nil, true},
			{apex, dns.TypeSOA, dns.RcodeSuccess, []string{"7 3600"}, false},
			{apex, dns.TypeNS, dns.RcodeSuccess, []string{"ns1." + apex}, false},
			{apex, dns.TypeA, dns.RcodeSuccess, nil, true},
			{"ket-07." + apex, dns.TypeANY, dns.RcodeSuccess, []string{"198.51.100.7"}, false},
		} {
			t.Run(fmt.Sprintf("%s %s %s", network, c.name, dns.TypeToString[c.qtype]), func(t *testing.T) {
				r := ask(t, s, network, c.name, c.qtype, nil)
				require.Equal(t, c.rcode, r.Rcode)
				require.True(t, r.Authoritative)
				require.False(t, r.RecursionAvailable)
				require.Len(t, r.Answer, len(c.answers))
				for i, want := range c.answers {
					require.Contains(t, r.Answer[i].String(), want)
					require.Equal(t, c.name, r.Answer[i].Header().Name, "the owner keeps the case of the question")
				}
				if !c.negative {
					require.Empty(t, r.Ns)
					return
				}
				require.Len(t, r.Ns, 1)
				require.True(t, strings.EqualFold(apex, r.Ns[0].Header().Name))
				require.EqualValues(t, 30, r.Ns[0].Header().Ttl, "the negative TTL")
			})
		}
	}
}

func TestRefusals(t *testing.T) {
	s, _ := serve(t)
	require.Equal(t, dns.RcodeRefused, ask(t, s, "udp", "elsewhere.example.", dns.TypeA, nil).Rcode)
	require.Equal(t, dns.RcodeServerFailure, ask(t, s, "tcp", apex, dns.TypeAXFR, nil).Rcode,
		"nobody can decide yet: whoever asks comes back")
	require.Equal(t, dns.RcodeRefused, ask(t, s, "udp", apex, dns.TypeSOA,
		func(m *dns.Msg) { m.Question[0].Qclass = dns.ClassCHAOS }).Rcode)
	r := ask(t, s, "udp", "ket-07."+apex, dns.TypeA, func(m *dns.Msg) { m.SetEdns0(1232, false); m.IsEdns0().SetVersion(1) })
	require.Equal(t, dns.RcodeBadVers, r.Rcode)
	require.Empty(t, r.Answer)
	m := new(dns.Msg).SetQuestion(apex, dns.TypeSOA)
	m.Opcode = dns.OpcodeStatus
	packed, err := m.Pack()
	require.NoError(t, err)
	var got dns.Msg
	require.NoError(t, got.Unpack(raw(t, s, packed)))
	require.Equal(t, dns.RcodeNotImplemented, got.Rcode)
	require.Equal(t, dns.OpcodeStatus, got.Opcode)
}

func raw(t testing.TB, s *Server, packet []byte) []byte {
	t.Helper()
	c, err := net.Dial("udp", s.Addr())
	require.NoError(t, err)
	defer c.Close()
	_, err = c.Write(packet)
	require.NoError(t, err)
	require.NoError(t, c.SetReadDeadline(time.Now().Add(2*time.Second)))
	buf := make([]byte, 65535)
	n, err := c.Read(buf)
	require.NoError(t, err)
	return buf[:n]
}

func TestTruncationSendsClientsToTCP(t *testing.T) {
	s, _ := serve(t)
	r := ask(t, s, "udp", "many."+apex, dns.TypeA, nil)
	require.True(t, r.Truncated)
	require.Empty(t, r.Answer)
	r = ask(t, s, "udp", "many."+apex, dns.TypeA, func(m *dns.Msg) { m.SetEdns0(4096, false) })
	require.False(t, r.Truncated, "972 octets fit in 1232")
	require.Len(t, r.Answer, 60)
	require.EqualValues(t, bufferSize, r.IsEdns0().UDPSize())
	require.Len(t, ask(t, s, "tcp", "many."+apex, dns.TypeA, nil).Answer, 60)
}

func TestSeveralQuestionsOnOneConnection(t *testing.T) {
	s, _ := serve(t)
	c, err := dns.Dial("tcp", s.Addr())
	require.NoError(t, err)
	defer c.Close()
	for i := range 5 {
		m := new(dns.Msg).SetQuestion("ket-07."+apex, dns.TypeA)
		m.Id = uint16(i)
		require.NoError(t, c.WriteMsg(m))
	}
	for i := range 5 {
		r, err := c.ReadMsg()
		require.NoError(t, err)
		require.EqualValues(t, i, r.Id)
	}
}

func TestChangesAreAnsweredAtOnce(t *testing.T) {
	s, z := serve(t)
	name := "ket-07." + apex
	require.NoError(t, z.Set(Names{name: {set(t, name+" 30 A 198.51.100.8")},
		"new.d." + apex: {set(t, "new.d."+apex+" 30 A 198.51.100.10")}}, 8))
	require.Contains(t, ask(t, s, "udp", name, dns.TypeA, nil).Answer[0].String(), "198.51.100.8")
	require.Empty(t, ask(t, s, "udp", name, dns.TypeAAAA, nil).Answer, "everything at the name was replaced")
	require.Len(t, ask(t, s, "udp", "new.d."+apex, dns.TypeA, nil).Answer, 1)
	require.Equal(t, dns.RcodeSuccess, ask(t, s, "udp", "d."+apex, dns.TypeA, nil).Rcode, "an empty non-terminal has come")
	require.EqualValues(t, 8, z.Serial())
	require.NoError(t, z.Set(Names{"new.d." + apex: nil}, 9))
	require.Equal(t, dns.RcodeNameError, ask(t, s, "udp", "new.d."+apex, dns.TypeA, nil).Rcode)
	require.Equal(t, dns.RcodeNameError, ask(t, s, "udp", "d."+apex, dns.TypeA, nil).Rcode, "and gone")
	require.NoError(t, z.Set(Names{"c." + apex: nil}, 10))
	require.Len(t, ask(t, s, "udp", "a.b.c."+apex, dns.TypeA, nil).Answer, 1, "removing nothing keeps what is below")
	require.ErrorContains(t, z.Set(Names{"x.elsewhere.example.": nil}, 11), "is not in zone")
	require.EqualValues(t, 10, z.Serial(), "a change that fails changes nothing")
}

func TestReadersAndWritersAtOnce(t *testing.T) {
	d := &Directory{}
	z := zone(t)
	d.Put(z)
	var wg sync.WaitGroup
	wg.Go(func() {
		for i := range 300 {
			name := fmt.Sprintf("n%d.%s", i%20, apex)
			sets := []RRset{set(t, fmt.Sprintf("%s 30 A 198.51.100.%d", name, i%250+1))}
			if i%3 == 0 {
				sets = nil
			}
			if err := z.Set(Names{name: sets}, uint32(i+10)); err != nil {
				t.Error(err)
			}
		}
	})
	for range 2 {
		wg.Go(func() {
			out := make([]byte, dns.MaxMsgSize)
			for i := range 3000 {
				req, _ := new(dns.Msg).SetQuestion(fmt.Sprintf("n%d.%s", i%20, apex), dns.TypeA).Pack()
				var m dns.Msg
				if err := m.Unpack(out[:d.respond(req, out, false)]); err != nil {
					t.Error(err)
					return
				}
			}
		})
	}
	wg.Wait()
	require.EqualValues(t, 309, z.Serial())
}

// Every malformed packet gets either no answer or one that is well-formed, and is never taken for a good question.
func TestMalformedPackets(t *testing.T) {
	d := &Directory{}
	d.Put(zone(t))
	good, err := new(dns.Msg).SetQuestion("ket-07."+apex, dns.TypeA).SetEdns0(1232, false).Pack()
	require.NoError(t, err)
	out := make([]byte, dns.MaxMsgSize)
	check := func(packet []byte) {
		n := d.respond(packet, out, false)
		if n == 0 {
			return
		}
		var m dns.Msg
		require.NoError(t, m.Unpack(out[:n]), "answer to %x", packet)
		require.True(t, m.Response)
	}
	for cut := range good {
		check(good[:cut])
	}
	r := rand.New(rand.NewPCG(1, 2))
	for range 50000 {
		p := append([]byte(nil), good...)
		for range 1 + r.IntN(4) {
			p[r.IntN(len(p))] = byte(r.Uint32())
		}
		check(p[:r.IntN(len(p)+1)])
	}
	response := append([]byte(nil), good...)
	response[2] |= 0x80
	require.Zero(t, d.respond(response, out, false), "a response is never answered")
	for name, packet := range map[string][]byte{
		"a pointer in the question": append(binary.BigEndian.AppendUint16(good[:12:12], 0xC00C), 0, 1, 0, 1),
		"no question":               {0, 1, 1, 0, 0, 0, 0, 0, 0, 0, 0, 0},
		"two OPT records":           append(append(good[:10:10], 0, 2), append(good[12:len(good):len(good)], good[len(good)-11:]...)...),
	} {
		n := d.respond(packet, out, false)
		require.Equal(t, headerSize, n, name)
		require.EqualValues(t, dns.RcodeFormatError, out[3]&0xF, name)
	}
}

func TestAnsweringAllocatesNothing(t *testing.T) {
	d := &Directory{}
	d.Put(zone(t))
	req, err := new(dns.Msg).SetQuestion("ket-07."+apex, dns.TypeA).SetEdns0(1232, false).Pack()
	require.NoError(t, err)
	out := make([]byte, dns.MaxMsgSize)
	require.Zero(t, testing.AllocsPerRun(200, func() { d.respond(req, out, false) }))
}

func TestSlowAndOversizedClientsAreLeft(t *testing.T) {
	s, _ := serve(t)
	c, err := net.Dial("tcp", s.Addr())
	require.NoError(t, err)
	defer c.Close()
	_, err = c.Write([]byte{0xFF, 0xFF, 1, 2, 3})
	require.NoError(t, err)
	require.NoError(t, c.SetReadDeadline(time.Now().Add(2*time.Second)))
	_, err = c.Read(make([]byte, 1))
	require.Error(t, err, "a frame of 65535 octets is no question: the connection ends")
	require.NotErrorIs(t, err, context.DeadlineExceeded)
	require.NotContains(t, err.Error(), "timeout")
	require.Len(t, ask(t, s, "tcp", "ket-07."+apex, dns.TypeA, nil).Answer, 1, "others are served")
}
