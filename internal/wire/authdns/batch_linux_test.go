package authdns

import (
	"net"
	"runtime"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/net/ipv4"
	"golang.org/x/sys/unix"
)

// echoing sends every packet back that comes to conn, and returns how many there were and what that took of a processor.
type echoing func(conn *net.UDPConn) (packets int, spent time.Duration)

// echoByHand is what the server does, with recvmmsg and sendmmsg called by hand.
func echoByHand(conn *net.UDPConn) (packets int, spent time.Duration) {
	b, err := newBatch(conn)
	if err != nil {
		return 0, 0
	}
	return processor(func() int {
		n, err := b.receive()
		if err != nil {
			return -1
		}
		for i := range n {
			_ = b.from(i)
			b.reply(i, copy(b.replies[i], b.packet(i)))
		}
		return b.send()
	})
}

// echoByLibrary is the same with golang.org/x/net, which makes an address for each packet.
func echoByLibrary(conn *net.UDPConn) (packets int, spent time.Duration) {
	c := ipv4.NewPacketConn(conn)
	in, out := make([]ipv4.Message, batchSize), make([]ipv4.Message, batchSize)
	for i := range in {
		in[i].Buffers, out[i].Buffers = [][]byte{make([]byte, maxQuery)}, [][]byte{make([]byte, replySize)}
	}
	return processor(func() int {
		n, err := c.ReadBatch(in, 0)
		if err != nil {
			return -1
		}
		for i := range n {
			_ = in[i].Addr.(*net.UDPAddr).AddrPort()
			reply := out[i].Buffers[0][:replySize]
			out[i].Buffers[0], out[i].Addr = reply[:copy(reply, in[i].Buffers[0][:in[i].N])], in[i].Addr
		}
		sent := 0
		for sent < n {
			m, err := c.WriteBatch(out[sent:n], 0)
			if err != nil {
				return -1
			}
			sent += m
		}
		return sent
	})
}

// processor runs one step after the other until one gives less than 0, and returns the sum and the thread's processor time.
func processor(step func() int) (sum int, spent time.Duration) {
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	began := threadTime()
	for {
		n := step()
		if n < 0 {
			return sum, threadTime() - began
		}
		sum += n
	}
}

func threadTime() time.Duration {
	var u unix.Rusage
	_ = unix.Getrusage(unix.RUSAGE_THREAD, &u)
	return time.Duration(u.Utime.Nano() + u.Stime.Nano())
}

// echoed has way echo n packets, as many outstanding as fit into a batch, and returns what it spent on each.
func echoed(t testing.TB, way echoing, n int) time.Duration {
	conn, err := net.ListenUDP("udp", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
	require.NoError(t, err)
	type result struct {
		packets int
		spent   time.Duration
	}
	ended := make(chan result, 1)
	go func() {
		packets, spent := way(conn)
		ended <- result{packets, spent}
	}()
	client, err := net.Dial("udp", conn.LocalAddr().String())
	require.NoError(t, err)
	defer client.Close()
	question, reply := make([]byte, 60), make([]byte, replySize)
	for done := 0; done < n; done += batchSize {
		for range batchSize {
			_, err := client.Write(question)
			require.NoError(t, err)
		}
		for range batchSize {
			require.NoError(t, client.SetReadDeadline(time.Now().Add(5*time.Second)))
			_, err := client.Read(reply)
			require.NoError(t, err)
		}
	}
	require.NoError(t, conn.Close())
	r := <-ended
	require.GreaterOrEqual(t, r.packets, n)
	return r.spent / time.Duration(r.packets)
}

func TestBothWaysOfBatchingEcho(t *testing.T) {
	echoed(t, echoByHand, 4*batchSize)
	echoed(t, echoByLibrary, 4*batchSize)
}

// BenchmarkBatch compares the processor time that one packet costs, both ways in turn.
func BenchmarkBatch(b *testing.B) {
	var byHand, byLibrary time.Duration
	rounds := 0
	for b.Loop() {
		byHand += echoed(b, echoByHand, 200*batchSize)
		byLibrary += echoed(b, echoByLibrary, 200*batchSize)
		rounds++
	}
	b.ReportMetric(float64(byHand.Nanoseconds())/float64(rounds), "ns/packet-by-hand")
	b.ReportMetric(float64(byLibrary.Nanoseconds())/float64(rounds), "ns/packet-by-library")
	b.ReportMetric(byLibrary.Seconds()/byHand.Seconds(), "library-to-hand")
}
