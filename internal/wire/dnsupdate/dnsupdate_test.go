package dnsupdate

import (
	"net"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/names"
)

const (
	apex   = "quay.example"
	name   = "ferry.quay.example"
	secret = "c2xpcHdheS1nYW5uZXQta2V0dGxlLWZlcnJ5LTAwMDE="
)

func record(rrtype, data string) names.Record {
	return names.Record{Name: name, Type: rrtype, TTL: 30, Data: data}
}

func TestAnUpdateReplacesWhatIsOursAndNothingElse(t *testing.T) {
	m, err := Compose(apex, name, []names.Record{record("A", "198.51.100.1"), record("MX", "10 mail.example.")},
		[]names.Record{record("A", "198.51.100.2")})
	require.NoError(t, err)
	require.Equal(t, dns.OpcodeUpdate, m.Opcode)
	require.Equal(t, "quay.example.", m.Question[0].Name)
	require.Len(t, m.Answer, 1, "the name must not be an alias")
	require.Equal(t, dns.RR_Header{Name: name + ".", Rrtype: dns.TypeCNAME, Class: dns.ClassNONE}, *m.Answer[0].Header())
	require.Len(t, m.Ns, 3)
	for i, rrtype := range []uint16{dns.TypeA, dns.TypeMX} {
		require.Equal(t, dns.RR_Header{Name: name + ".", Rrtype: rrtype, Class: dns.ClassANY}, *m.Ns[i].Header())
	}
	require.Equal(t, "198.51.100.2", m.Ns[2].(*dns.A).A.String())

	gone, err := Compose(apex, name, []names.Record{record("TYPE731", `\# 1 ab`)}, nil)
	require.NoError(t, err)
	require.Empty(t, gone.Answer)
	require.Len(t, gone.Ns, 1)
	alias, err := Compose(apex, name, nil, []names.Record{record("CNAME", "other.example.")})
	require.NoError(t, err)
	require.Empty(t, alias.Answer, "an alias may take the place of one")
	_, err = Compose(apex, name, nil, []names.Record{record("A", "nowhere")})
	require.ErrorContains(t, err, "is not data of a A record")
}

// answering answers every message as f says, signed where it was.
func answering(t *testing.T, f func(*dns.Msg)) string {
	t.Helper()
	socket, err := net.ListenPacket("udp", "127.0.0.1:0")
	require.NoError(t, err)
	started := make(chan struct{})
	s := &dns.Server{PacketConn: socket, TsigSecret: map[string]string{"push.example.": secret},
		NotifyStartedFunc: func() { close(started) },
		MsgAcceptFunc:     func(dns.Header) dns.MsgAcceptAction { return dns.MsgAccept },
		Handler: dns.HandlerFunc(func(w dns.ResponseWriter, m *dns.Msg) {
			reply := new(dns.Msg).SetReply(m)
			if m.IsTsig() != nil {
				reply.SetTsig("push.example.", dns.HmacSHA256, 300, time.Now().Unix())
			}
			f(reply)
			_ = w.WriteMsg(reply)
		})}
	go func() { _ = s.ActivateAndServe() }()
	<-started
	t.Cleanup(func() { _ = s.Shutdown() })
	return socket.LocalAddr().String()
}

func TestRefusedIsToldFromUnreachable(t *testing.T) {
	send := func(address string) error {
		m, err := Compose(apex, name, nil, []names.Record{record("A", "198.51.100.2")})
		require.NoError(t, err)
		return Primary{Address: address, Transport: names.OverUDP, KeyName: "push.example", Algorithm: "hmac-sha256",
			Secret: secret}.Send(t.Context(), m)
	}
	rcode := func(n int) func(*dns.Msg) { return func(m *dns.Msg) { m.Rcode = n } }
	require.NoError(t, send(answering(t, rcode(dns.RcodeSuccess))))
	for words, code := range map[string]int{
		"REFUSED: it does not allow us": dns.RcodeRefused, "NOTAUTH: it is not the primary": dns.RcodeNotAuth,
		"NOTZONE: the name is not":      dns.RcodeNotZone,
		"YXRRSET: the name is an alias": dns.RcodeYXRrset, "NOTIMP: it takes no updates": dns.RcodeNotImplemented,
		"FORMERR": dns.RcodeFormatError,
	} {
		var refused Refused
		require.ErrorAs(t, send(answering(t, rcode(code))), &refused)
		require.Equal(t, code, refused.Rcode)
		require.Contains(t, refused.Detail, words)
	}
	silent, err := net.ListenPacket("udp", "127.0.0.1:0")
	require.NoError(t, err)
	defer silent.Close()
	closed, err := net.ListenPacket("udp", "127.0.0.1:0")
	require.NoError(t, err)
	require.NoError(t, closed.Close())
	for words, address := range map[string]string{
		"it answered SERVFAIL": answering(t, rcode(dns.RcodeServerFailure)),
		"is not signed":        answering(t, func(m *dns.Msg) { m.Extra = nil }),
		"it does not answer":   silent.LocalAddr().String(),
		"nothing listens":      closed.LocalAddr().String(),
	} {
		var away Unreachable
		require.ErrorAs(t, send(address), &away, words)
		require.Contains(t, away.Detail, words)
	}
}

func TestTCPTroubleIsToldInWords(t *testing.T) {
	for words, treat := range map[string]func(*net.TCPConn){
		"it closed the connection without an answer": func(c *net.TCPConn) { _, _ = c.Read(make([]byte, 512)); _ = c.Close() },
		"it cut the connection before it answered": func(c *net.TCPConn) {
			_,
				_ = c.Read(make([]byte, 1))
			_ = c.SetLinger(0)
			_ = c.Close()
		},
	} {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		t.Cleanup(func() { _ = l.Close() })
		go func() {
			for {
				c, err := l.Accept()
				if err != nil {
					return
				}
				treat(c.(*net.TCPConn))
			}
		}()
		m, err := Compose(apex, name, nil, []names.Record{record("A", "198.51.100.2")})
		require.NoError(t, err)
		err = Primary{Address: l.Addr().String(), Transport: names.OverTCP}.Send(t.Context(), m)
		var away Unreachable
		require.ErrorAs(t, err, &away)
		require.Contains(t, away.Detail, words)
	}
}

// The first packet is lost: the second is signed for itself.
func TestATryThatIsMadeAgainIsSignedAgain(t *testing.T) {
	good := answering(t, func(m *dns.Msg) {})
	front, err := net.ListenPacket("udp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = front.Close() })
	go func() {
		buffer := make([]byte, 4096)
		for tries := 0; ; tries++ {
			n, from, err := front.ReadFrom(buffer)
			if err != nil {
				return
			}
			if tries == 0 {
				continue
			}
			back, err := net.Dial("udp", good)
			if err != nil {
				return
			}
			_, _ = back.Write(buffer[:n])
			n, err = back.Read(buffer)
			_ = back.Close()
			if err == nil {
				_, _ = front.WriteTo(buffer[:n], from)
			}
		}
	}()
	m, err := Compose(apex, name, nil, []names.Record{record("A", "198.51.100.2")})
	require.NoError(t, err)
	require.NoError(t, Primary{Address: front.LocalAddr().String(), Transport: names.OverUDP, KeyName: "push.example",
		Algorithm: "hmac-sha256", Secret: secret}.Send(t.Context(), m))
	require.Nil(t, m.IsTsig(), "the message itself stays as it was composed")
}
