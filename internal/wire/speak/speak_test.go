package speak_test

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"fmt"
	"io"
	"net"
	"net/netip"
	"strings"
	"testing"
	"time"

	"crypto/ecdh"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/lab/peer"
	"inkpost.example/inkpost/internal/testbed"
	"inkpost.example/inkpost/internal/wire/speak"
)

var loopback = netip.MustParseAddr("127.0.0.1")

// free gives a port that nobody listens on, on either transport.
func free(t *testing.T) netip.AddrPort {
	for {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		at := l.Addr().(*net.TCPAddr).AddrPort()
		u, err := net.ListenUDP("udp", net.UDPAddrFromAddrPort(at))
		require.NoError(t, l.Close())
		if err == nil {
			require.NoError(t, u.Close())
			return at
		}
	}
}

func try(t *testing.T, r speak.Request) speak.Reply {
	if r.Deadline == 0 {
		r.Deadline = 2 * time.Second
	}
	pace := testbed.Watch(t)
	began := time.Now()
	out := speak.To(t.Context(), r)
	pace.Within(t, began.Add(r.Deadline), time.Now(), 500*time.Millisecond, "a probe never holds its slot past its deadline")
	require.NotEmpty(t, out.Message)
	require.NotEmpty(t, out.Steps)
	return out
}

func listen(t *testing.T, p peer.Peer, transport probe.Transport) (netip.AddrPort, func()) {
	at := free(t)
	l, err := p.Listen(transport, at)
	require.NoError(t, err)
	closed := false
	stop := func() {
		if !closed {
			closed = true
			_ = l.Close()
		}
	}
	t.Cleanup(stop)
	return at, stop
}

// TestEveryKind has each kind answered by a peer of its own, refused where the peer is gone, and garbled where another
// answers on its port.
func TestEveryKind(t *testing.T) {
	ours, err := ecdh.X25519().GenerateKey(rand.Reader)
	require.NoError(t, err)
	for _, trait := range probe.Traits() {
		for _, transport := range trait.Transports {
			t.Run(fmt.Sprintf("%s over %s", trait.Kind, transport), func(t *testing.T) {
				t.Parallel()
				p := peer.Peer{Kind: trait.Kind, Name: "hut.isles.saltmarsh.example", Keys: ours.PublicKey().Bytes()}
				at, stop := listen(t, p, transport)
				r := speak.Request{Kind: trait.Kind, Transport: transport, Target: at, Name: p.Name, ProbeKey: ours.Bytes()}
				if trait.Kind == probe.KindWireGuard {
					r.Options.PeerKey = base64.StdEncoding.EncodeToString(p.StaticKey())
				}
				if trait.Kind == probe.KindUDP { // its peer never answers: that proves nothing
					r.Deadline = 300 * time.Millisecond
					require.Equal(t, probe.Silent, probe.Judge(try(t, r).Result, ""))
					stop()
					require.Equal(t, probe.Refused, probe.Judge(try(t, r).Result, ""))
					return
				}
				first := try(t, r)
				want := probe.Answered
				if trait.Kind == probe.KindTCP {
					want = probe.Opened
				}
				require.Equal(t, want, probe.Judge(first.Result, ""), "%+v", first)
				require.Equal(t, "127.0.0.1", first.From.Addr().String())
				require.Equal(t, trait.Recognised != "", first.Fingerprint != "", "%q", first.Fingerprint)
				again := try(t, r)
				require.Equal(t, first.Fingerprint, again.Fingerprint, "the same service is recognised")
				require.Equal(t, want, probe.Judge(again.Result, first.Fingerprint))

				stop()
				require.Equal(t, probe.Refused, probe.Judge(try(t, r).Result, ""))
				if trait.Kind == probe.KindTCP {
					return
				}
				// Somebody else answers on the port.
				if transport == probe.UDP {
					c, err := net.ListenUDP("udp", net.UDPAddrFromAddrPort(at))
					require.NoError(t, err)
					t.Cleanup(func() { _ = c.Close() })
					go func() {
						buffer := make([]byte, 2048)
						for {
							_, from, err := c.ReadFromUDPAddrPort(buffer)
							if err != nil {
								return
							}
							_, _ = c.WriteToUDPAddrPort([]byte("gannets nest here, and nothing else does, all the summer long"), from)
						}
					}()
				} else {
					l, err := net.Listen("tcp", at.String())
					require.NoError(t, err)
					t.Cleanup(func() { _ = l.Close() })
					go serve(l, func(c net.Conn) { _, _ = io.WriteString(c, "gannets nest here, and nothing else does\r\n") })
				}
				r.Deadline = 400 * time.Millisecond
				other := try(t, r)
				require.Equal(t, probe.Garbled, probe.Judge(other.Result, ""), "%+v", other)
			})
		}
	}
}

func TestAnotherKeyIsAStranger(t *testing.T) {
	for _, kind := range []probe.Kind{probe.KindSSH, probe.KindTLS, probe.KindHTTPS, probe.KindRDP, probe.KindSMTP, probe.KindSNMP} {
		transport := probe.TraitOf(kind).Transports[0]
		at, stop := listen(t, peer.Peer{Kind: kind, Name: "ours.example"}, transport)
		r := speak.Request{Kind: kind, Transport: transport, Target: at}
		pinned := try(t, r).Fingerprint
		require.NotEmpty(t, pinned)
		stop()
		l, err := peer.Peer{Kind: kind, Name: "theirs.example"}.Listen(transport, at)
		require.NoError(t, err)
		got := try(t, r)
		require.Equal(t, probe.Stranger, probe.Judge(got.Result, pinned), "%s: %q and %q", kind, pinned, got.Fingerprint)
		require.NoError(t, l.Close())
	}
}

func TestWireGuardIsSilentToOthers(t *testing.T) {
	ours, err := ecdh.X25519().GenerateKey(rand.Reader)
	require.NoError(t, err)
	p := peer.Peer{Kind: probe.KindWireGuard, Name: "gate.example", Keys: ours.PublicKey().Bytes()}
	at, _ := listen(t, p, probe.UDP)
	stranger, err := ecdh.X25519().GenerateKey(rand.Reader)
	require.NoError(t, err)
	key := base64.StdEncoding.EncodeToString(p.StaticKey())
	r := speak.Request{Kind: probe.KindWireGuard, Transport: probe.UDP, Target: at, ProbeKey: stranger.Bytes(),
		Options: probe.Options{PeerKey: key}, Deadline: 400 * time.Millisecond}
	require.Equal(t, probe.Silent, probe.Judge(try(t, r).Result, ""), "a key that is no peer's gets no answer")
	r.ProbeKey, r.Options.PeerKey = ours.Bytes(), base64.StdEncoding.EncodeToString(stranger.PublicKey().Bytes())
	require.Equal(t, probe.Silent, probe.Judge(try(t, r).Result, ""), "another server's key proves nothing here")
}

func TestCertificates(t *testing.T) {
	at, _ := listen(t, peer.Peer{Kind: probe.KindHTTPS, Name: "ours.example", Until: time.Now().Add(-48 * time.Hour)}, probe.TCP)
	r := speak.Request{Kind: probe.KindHTTPS, Transport: probe.TCP, Target: at, Name: "ours.example"}
	got := try(t, r)
	require.Equal(t, probe.Answered, probe.Judge(got.Result, ""), "what a certificate says is noted")
	require.Contains(t, got.Certificate.Problem, "expired")
	r.Options.Certificate = "checked"
	got = try(t, r)
	require.Equal(t, probe.Garbled, probe.Judge(got.Result, ""))
	require.Contains(t, got.Message, "expired")
	at, _ = listen(t, peer.Peer{Kind: probe.KindTLS, Name: "ours.example"}, probe.TCP)
	r.Kind, r.Target, r.Name = probe.KindTLS, at, "theirs.example"
	require.Contains(t, try(t, r).Message, "made out to ours.example, not to theirs.example")
}

func serve(l net.Listener, f func(net.Conn)) {
	for {
		c, err := l.Accept()
		if err != nil {
			return
		}
		go func() {
			defer c.Close()
			_ = c.SetDeadline(time.Now().Add(5 * time.Second))
			f(c)
		}()
	}
}

// TestHostileServers has every kind over TCP meet servers that flood, stall, and cut off.
func TestHostileServers(t *testing.T) {
	hostile := map[string]func(net.Conn){
		"says nothing":      func(c net.Conn) { _, _ = io.Copy(io.Discard, c) },
		"stalls after one":  func(c net.Conn) { _, _ = c.Write([]byte("2")); _, _ = io.Copy(io.Discard, c) },
		"floods with noise": func(c net.Conn) { flood(c, strings.Repeat("\x00\xff7", 4000)) },
		"floods with lines": func(c net.Conn) { flood(c, strings.Repeat("220-and so on\r\n", 400)) },
		"endless headers": func(c net.Conn) {
			_, _ = io.WriteString(c, "HTTP/1.1 200 OK\r\n")
			flood(c, strings.Repeat("X-More: gannets\r\n", 400))
		},
		"one endless line": func(c net.Conn) { flood(c, strings.Repeat("SSH-2.0-gannet", 400)) },
		"cuts off at once": func(c net.Conn) { _ = c.(*net.TCPConn).SetLinger(0) },
		"cuts off after some": func(c net.Conn) {
			_, _ = c.Write([]byte("220 ok\r\n"))
			_, _ = c.Read(make([]byte, 5))
			_ = c.(*net.TCPConn).SetLinger(0)
		},
	}
	for name, f := range hostile {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		t.Cleanup(func() { _ = l.Close() })
		go serve(l, f)
		at := l.Addr().(*net.TCPAddr).AddrPort()
		for _, trait := range probe.Traits() {
			if trait.Kind == probe.KindTCP || trait.Kind.On(probe.TCP) != trait.Kind {
				continue
			}
			t.Run(name+" "+string(trait.Kind), func(t *testing.T) {
				t.Parallel()
				got := try(t, speak.Request{Kind: trait.Kind, Transport: probe.TCP, Target: at, Deadline: 400 * time.Millisecond})
				if strings.HasPrefix(name, "cuts") || trait.Kind == probe.KindFTP || trait.Kind == probe.KindSMTP {
					require.Contains(t, []probe.Outcome{probe.Garbled, probe.Refused, probe.Answered}, probe.Judge(got.Result, ""))
					return
				}
				if trait.Kind == probe.KindHTTP && name == "floods with lines" {
					return // read as an answer of HTTP/0.9 by nobody: any outcome with a reason will do
				}
				require.Equal(t, probe.Garbled, probe.Judge(got.Result, ""), "%+v", got)
			})
		}
	}
}

func flood(c net.Conn, with string) {
	for range 100_000 {
		if _, err := io.WriteString(c, with); err != nil {
			return
		}
	}
}

func TestRedirectsStayAtHome(t *testing.T) {
	web := func(location, page string) netip.AddrPort {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		t.Cleanup(func() { _ = l.Close() })
		go serve(l, func(c net.Conn) {
			_, _ = c.Read(make([]byte, 2048))
			status := "200 OK"
			if location != "" {
				status = "302 Found\r\nLocation: " + location
			}
			_, _ = fmt.Fprintf(c, "HTTP/1.1 %s\r\nContent-Length: %d\r\nConnection: close\r\n\r\n%s", status, len(page), page)
		})
		return l.Addr().(*net.TCPAddr).AddrPort()
	}
	home := web("", "lighthouse")
	own := func(host string, port uint16) bool { return host == "ours.example" && port == home.Port() }
	for location, want := range map[string]struct {
		outcome probe.Outcome
		said    string
	}{
		fmt.Sprintf("http://ours.example:%d/in", home.Port()): {probe.Answered, "200"},
		fmt.Sprintf("http://127.0.0.1:%d/", home.Port()):      {probe.Garbled, "not one of the site's own"},
		fmt.Sprintf("http://theirs.example:%d/", home.Port()): {probe.Garbled, "not one of the site's own"},
		"http://ours.example:1/":                              {probe.Garbled, "not one of the site's own"},
		"gopher://ours.example/":                              {probe.Garbled, "not one of the site's own"},
	} {
		at := web(location, "")
		got := try(t, speak.Request{Kind: probe.KindHTTP, Transport: probe.TCP, Target: at, Name: "ours.example", Own: own,
			Options: probe.Options{Status: "200", Text: "lighthouse"}})
		require.Equal(t, want.outcome, probe.Judge(got.Result, ""), "%s: %s", location, got.Message)
		require.Contains(t, got.Message, want.said)
	}
	var loop netip.AddrPort
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })
	loop = l.Addr().(*net.TCPAddr).AddrPort()
	go serve(l, func(c net.Conn) {
		_, _ = c.Read(make([]byte, 2048))
		_, _ = fmt.Fprintf(c, "HTTP/1.1 302 Found\r\nLocation: http://ours.example:%d/again\r\nContent-Length: 0\r\nConnection: "+
			"close\r\n\r\n", loop.Port())
	})
	got := try(t, speak.Request{Kind: probe.KindHTTP, Transport: probe.TCP, Target: loop, Name: "ours.example",
		Own: func(string, uint16) bool { return true }, Options: probe.Options{Status: "200"}})
	require.Contains(t, got.Message, "5 redirects already")
}

func TestPagesAreHeldAgainstWhatIsExpected(t *testing.T) {
	at, _ := listen(t, peer.Peer{Kind: probe.KindHTTP, Name: "ours.example"}, probe.TCP)
	r := speak.Request{Kind: probe.KindHTTP, Transport: probe.TCP, Target: at,
		Options: probe.Options{Text: "ours.example", Status: "200", Path: "/live"}}
	require.Equal(t, probe.Answered, probe.Judge(try(t, r).Result, ""))
	r.Options.Text = "puffins"
	got := try(t, r)
	require.Equal(t, probe.Garbled, probe.Judge(got.Result, ""))
	require.Contains(t, got.Message, `"puffins" is not on the page`)
	r.Options = probe.Options{Status: "401"}
	require.Contains(t, try(t, r).Message, "401 is expected")
}

func TestACancelledProbeSaysNothing(t *testing.T) {
	at, _ := listen(t, peer.Peer{Kind: probe.KindTCP, Name: "x"}, probe.TCP)
	gone, cancel := context.WithCancel(t.Context())
	cancel()
	for _, transport := range []probe.Transport{probe.TCP, probe.UDP} {
		got := speak.To(gone, speak.Request{Kind: probe.KindDNS, Transport: transport, Target: at, Deadline: time.Second})
		require.Equal(t, probe.SignalLocal, got.Signal, transport)
	}
}

func TestAPortWithoutRoomIsSilent(t *testing.T) {
	c, err := net.ListenUDP("udp", &net.UDPAddr{IP: loopback.AsSlice()})
	require.NoError(t, err)
	t.Cleanup(func() { _ = c.Close() })
	got := try(t, speak.Request{Kind: probe.KindNTP, Transport: probe.UDP, Target: c.LocalAddr().(*net.UDPAddr).AddrPort(),
		Deadline: 300 * time.Millisecond})
	require.Equal(t, probe.Silent, probe.Judge(got.Result, ""))
}
