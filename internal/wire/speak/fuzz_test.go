package speak_test

import (
	"net"
	"testing"
	"time"
	"unicode/utf8"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/wire/speak"
)

// Whatever a server sends, a probe of any kind ends at its deadline with an outcome and words that can be printed.
func FuzzHostileBytes(f *testing.F) {
	traits := probe.Traits()
	for i := range traits {
		for _, said := range []string{"", "220 ready\r\n", "SSH-2.0-x\r\n", "HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nok",
			"RFB 003.008\n", "\x16\x03\x03\x00\x02\x01\x00", "\x00\x01\x00\x00\x21\x12\xa4\x42"} {
			f.Add(byte(i), []byte(said))
		}
	}
	f.Fuzz(func(t *testing.T, kind byte, said []byte) {
		trait := traits[int(kind)%len(traits)]
		r := speak.Request{Kind: trait.Kind, Transport: probe.TCP, Deadline: 150 * time.Millisecond}
		if trait.Kind.On(probe.TCP) == trait.Kind && trait.Kind != probe.KindUDP {
			l, err := net.Listen("tcp", "127.0.0.1:0")
			require.NoError(t, err)
			defer l.Close()
			go serve(l, func(c net.Conn) { _, _ = c.Write(said) })
			r.Target = l.Addr().(*net.TCPAddr).AddrPort()
		} else {
			l, err := net.ListenUDP("udp4", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
			require.NoError(t, err)
			defer l.Close()
			go func() {
				for {
					_, from, err := l.ReadFromUDPAddrPort(make([]byte, 2048))
					if err != nil {
						return
					}
					_, _ = l.WriteToUDPAddrPort(said, from)
				}
			}()
			r.Transport, r.Target = probe.UDP, l.LocalAddr().(*net.UDPAddr).AddrPort()
		}
		got := try(t, r)
		require.True(t, probe.Judge(got.Result, "").Known())
		require.True(t, utf8.ValidString(got.Message), "%q", got.Message)
		require.Less(t, len(got.Message), 2000)
	})
}
