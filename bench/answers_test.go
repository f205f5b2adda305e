package bench

import (
	"context"
	"fmt"
	"log/slog"
	"net"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/wire/authdns"
)

const apex = "isles.saltmarsh.example."

func set(b testing.TB, text string) authdns.RRset {
	rr, err := dns.NewRR(text)
	require.NoError(b, err)
	s, err := authdns.NewRRset(rr)
	require.NoError(b, err)
	return s
}

// hosted serves a zone of 10,000 names.
func hosted(b testing.TB) (*authdns.Server, *authdns.Zone) {
	b.Helper()
	content := authdns.Names{apex: {set(b, apex+" 300 NS ns1.elsewhere.example.")}}
	for i := range 10_000 {
		name := fmt.Sprintf("site-%d.%s", i, apex)
		content[name] = []authdns.RRset{set(b, fmt.Sprintf("%s 30 A 198.51.100.%d", name, i%250+1))}
	}
	soa, err := dns.NewRR(apex + " 300 SOA ns1.elsewhere.example. hostmaster." + apex + " 7 3600 300 1209600 30")
	require.NoError(b, err)
	z, err := authdns.NewZone(soa.(*dns.SOA), content)
	require.NoError(b, err)
	d := &authdns.Directory{}
	d.Put(z)
	s, err := authdns.Listen("127.0.0.1:0", d, slog.New(slog.DiscardHandler))
	require.NoError(b, err)
	ctx, stop := context.WithCancel(context.Background())
	ended := make(chan struct{})
	go func() { _ = s.Serve(ctx); close(ended) }()
	b.Cleanup(func() { stop(); <-ended })
	return s, z
}

// echo answers every packet with itself: what a UDP responder in Go costs at the least when it takes one packet at a time.
func echo(b testing.TB) string {
	b.Helper()
	c, err := net.ListenUDP("udp", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
	require.NoError(b, err)
	b.Cleanup(func() { _ = c.Close() })
	go func() {
		buf := make([]byte, 4096)
		for {
			n, from, err := c.ReadFromUDPAddrPort(buf)
			if err != nil {
				return
			}
			_, _ = c.WriteToUDPAddrPort(buf[:n], from)
		}
	}()
	return c.LocalAddr().String()
}

// exchange asks n questions over one socket, some of them outstanding at a time, and returns how long that took.
func exchange(b testing.TB, server string, questions [][]byte, n int) time.Duration {
	b.Helper()
	c, err := net.Dial("udp", server)
	require.NoError(b, err)
	defer c.Close()
	const outstanding = 64
	buf := make([]byte, 4096)
	began := time.Now()
	sent, got := 0, 0
	for ; sent < min(outstanding, n); sent++ {
		_, err := c.Write(questions[sent%len(questions)])
		require.NoError(b, err)
	}
	for got < n {
		_ = c.SetReadDeadline(time.Now().Add(5 * time.Second))
		_, err := c.Read(buf)
		require.NoError(b, err)
		got++
		if sent < n {
			_, err := c.Write(questions[sent%len(questions)])
			require.NoError(b, err)
			sent++
		}
	}
	return time.Since(began)
}

func questions(b testing.TB) [][]byte {
	var out [][]byte
	for i := range 1000 {
		m := new(dns.Msg).SetQuestion(fmt.Sprintf("site-%d.%s", i*7%10_000, apex), dns.TypeA)
		m.SetEdns0(1232, false)
		packed, err := m.Pack()
		require.NoError(b, err)
		out = append(out, packed)
	}
	return out
}

// BenchmarkAnswers asks the hosted zone and a bare responder in turn; "of-bare" is the share of the bare one's speed. With
// moves, 500 addresses a second change meanwhile.
func BenchmarkAnswers(b *testing.B) {
	for _, moving := range []bool{false, true} {
		b.Run(map[bool]string{false: "still", true: "with-500-moves-a-second"}[moving], func(b *testing.B) {
			s, z := hosted(b)
			bare := echo(b)
			ask := questions(b)
			stop, ended := make(chan struct{}), make(chan struct{})
			go func() {
				defer close(ended)
				if !moving {
					return
				}
				tick := time.NewTicker(2 * time.Millisecond)
				defer tick.Stop()
				for i := uint32(8); ; i++ {
					select {
					case <-tick.C:
						name := fmt.Sprintf("site-%d.%s", i%10_000, apex)
						_ = z.Set(authdns.Names{name: {set(b, fmt.Sprintf("%s 30 A 198.51.100.%d", name, i%250+1))}}, i)
					case <-stop:
						return
					}
				}
			}()
			var ours, theirs time.Duration
			b.ResetTimer()
			for done := 0; done < b.N; {
				n := min(5000, b.N-done)
				ours += exchange(b, s.Addr(), ask, n)
				theirs += exchange(b, bare, ask, n)
				done += n
			}
			b.StopTimer()
			close(stop)
			<-ended
			b.ReportMetric(float64(b.N)/ours.Seconds(), "answers/s")
			b.ReportMetric(theirs.Seconds()/ours.Seconds(), "of-bare")
		})
	}
}
