package dnsask

import (
	"net"
	"strings"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/require"
)

// server answers as the name asked for says.
func server(t *testing.T, address string) string {
	t.Helper()
	handler := dns.HandlerFunc(func(w dns.ResponseWriter, m *dns.Msg) {
		r := new(dns.Msg).SetReply(m)
		q := m.Question[0]
		add := func(text string) {
			rr, err := dns.NewRR(q.Name + text)
			if err == nil && rr.Header().Rrtype == q.Qtype {
				r.Answer = append(r.Answer, rr)
			}
		}
		switch label, _, _ := strings.Cut(q.Name, "."); label {
		case "both":
			add(" 30 A 198.51.100.7")
			add(" 30 AAAA 2001:db8::7")
		case "nobody":
			r.Rcode = dns.RcodeNameError
		case "broken":
			r.Rcode = dns.RcodeServerFailure
		case "silent":
			return
		case "long":
			if w.RemoteAddr().Network() == "udp" {
				r.Truncated = true
			} else {
				add(" 30 A 198.51.100.9")
			}
		}
		_ = w.WriteMsg(r)
	})
	l, err := net.Listen("tcp", address) // first: connections of other tests take ports of TCP
	require.NoError(t, err)
	u, err := net.ListenPacket("udp", l.Addr().String())
	require.NoError(t, err)
	for _, s := range []*dns.Server{{PacketConn: u, Handler: handler}, {Listener: l, Handler: handler}} {
		started := make(chan struct{})
		s.NotifyStartedFunc = func() { close(started) }
		go func() { _ = s.ActivateAndServe() }()
		<-started
		t.Cleanup(func() { _ = s.Shutdown() })
	}
	return u.LocalAddr().String()
}

func TestAddresses(t *testing.T) {
	at := server(t, "127.0.0.1:0")
	p, err := Addresses(t.Context(), at, Resolver, "both.example")
	require.NoError(t, err)
	require.Equal(t, "198.51.100.7 2001:db8::7", p.String())
	p, err = Addresses(t.Context(), at, Resolver, "none.example")
	require.NoError(t, err)
	require.False(t, p.Known())
	p, err = Addresses(t.Context(), at, Resolver, "nobody.example")
	require.NoError(t, err, "a name that does not exist has no addresses")
	require.False(t, p.Known())
	p, err = Addresses(t.Context(), at, Resolver, "long.example")
	require.NoError(t, err)
	require.Equal(t, "198.51.100.9", p.String(), "an answer that was cut short is asked for over TCP")
	_, err = Addresses(t.Context(), at, Resolver, "broken.example")
	require.ErrorContains(t, err, "it answered SERVFAIL")
	began := time.Now()
	_, err = Addresses(t.Context(), at, Resolver, "silent.example")
	require.Error(t, err)
	require.Less(t, time.Since(began), 5*time.Second)
}

func TestServersAreAskedOverBothFamiliesAndTransports(t *testing.T) {
	for _, address := range []string{"127.0.0.1:0", "[::1]:0"} {
		at := server(t, address)
		for _, way := range []string{at, at + "/tcp"} {
			p, err := Addresses(t.Context(), way, Resolver, "both.example")
			require.NoError(t, err, way)
			require.Equal(t, "198.51.100.7 2001:db8::7", p.String(), way)
		}
		p, err := Addresses(t.Context(), at+"/tcp", Resolver, "long.example")
		require.NoError(t, err)
		require.Equal(t, "198.51.100.9", p.String(), "over TCP nothing is cut short")
		home := NewLocalServer(at)
		for range 20 {
			p, err := home.Addresses(t.Context(), "both.example")
			require.NoError(t, err)
			require.True(t, p.Known())
		}
		require.Len(t, home.idle, 1, "one socket after the other is enough")
		home.Close()
	}
}
