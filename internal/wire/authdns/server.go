package authdns

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/netip"
	"runtime"
	"sync"
	"sync/atomic"
	"time"

	"github.com/miekg/dns"
)

// Server answers on UDP and TCP at one address.
type Server struct {
	directory *Directory
	udp       *net.UDPConn
	tcp       *net.TCPListener
	log       *slog.Logger
	access    atomic.Pointer[Access]
	clients   int // connections over TCP at once
	limit     *limiter
	cookies   *cookieSecret
	outbox    *outbox
	keys      keyring
	updating  atomic.Int64 // updates over UDP that are being carried out
	counters  counters
}

type counters struct {
	answered, transfersWhole, transfersPart, transfersRefused, updates, badSignatures, cutShort, silenced atomic.Uint64
}

// Counts are what a server has done since it started.
type Counts struct {
	Answered, TransfersWhole, TransfersPart, TransfersRefused, Updates, BadSignatures uint64
	// answers over the limit: truncated, and left out
	CutShort, Silenced uint64
}

const (
	tcpClients = 256              // connections at once; for one more, the idlest has to go
	tcpIdle    = 10 * time.Second // RFC 7766 section 6.2.3 asks for a few seconds
	maxUpdates = 1024             // over UDP at once
	maxQuery   = 4096             // no honest question is longer
)

// Listen opens both sockets at address; the DNS answers once Serve runs. Port 0 picks a free one, the same for both. Error: that of the
// port which cannot be opened.
func Listen(address string, d *Directory, log *slog.Logger) (*Server, error) {
	var last error
	for range 10 { // a free UDP port may be taken on TCP
		u, err := net.ListenPacket("udp", address)
		if err != nil {
			return nil, fmt.Errorf("DNS on UDP: %w", err)
		}
		t, err := net.Listen("tcp", u.LocalAddr().String())
		if err == nil {
			out, err := newOutbox(u.(*net.UDPConn))
			return &Server{directory: d, udp: u.(*net.UDPConn), tcp: t.(*net.TCPListener), log: log, outbox: out,
				cookies: newCookieSecret(), clients: tcpClients}, err
		}
		_ = u.Close()
		last = fmt.Errorf("DNS on TCP: %w", err)
		if ap, err := netip.ParseAddrPort(address); err != nil || ap.Port() != 0 {
			break
		}
	}
	return nil, last
}

// Close closes the sockets of a server that is not to Serve.
func (s *Server) Close() { _ = s.udp.Close(); _ = s.tcp.Close() }

// Addr is the address that the server answers at.
func (s *Server) Addr() string { return s.udp.LocalAddr().String() }

// Counts returns what the server has done so far.
func (s *Server) Counts() Counts {
	c := &s.counters
	return Counts{Answered: c.answered.Load(), TransfersWhole: c.transfersWhole.Load(), TransfersPart: c.transfersPart.Load(),
		TransfersRefused: c.transfersRefused.Load(), Updates: c.updates.Load(), BadSignatures: c.badSignatures.Load(),
		CutShort: c.cutShort.Load(), Silenced: c.silenced.Load()}
}

// Limit bounds answers over UDP. It is called before Serve.
func (s *Server) Limit(l Limit) { s.limit = newLimiter(l) }

// Allow makes a decide on transfers and updates from now on.
func (s *Server) Allow(a Access) { s.access.Store(&a) }

// granted returns who decides; nil if nobody does yet.
func (s *Server) granted() Access {
	if a := s.access.Load(); a != nil {
		return *a
	}
	return nil
}

// TCPClients bounds the connections over TCP at once; for one more, the idlest has to go. It is called before Serve.
func (s *Server) TCPClients(most int) { s.clients = most }

// Serve answers until ctx ends. Error: the sockets were closed by somebody else.
func (s *Server) Serve(ctx context.Context) error {
	stop := context.AfterFunc(ctx, func() { _ = s.udp.Close(); _ = s.tcp.Close() })
	defer stop()
	var wg sync.WaitGroup
	for range runtime.GOMAXPROCS(0) {
		wg.Go(func() { s.serveUDP(ctx) })
	}
	wg.Go(func() { s.serveTCP(ctx) })
	wg.Wait()
	if ctx.Err() == nil {
		return errors.New("the DNS sockets were closed")
	}
	return nil
}

func (s *Server) serveUDP(ctx context.Context) {
	b, err := newBatch(s.udp)
	if err != nil {
		s.log.Error("DNS on UDP is not served", "error", err)
		return
	}
	q := query{cookieSecret: s.cookies}
	for {
		n, err := b.receive()
		if errors.Is(err, net.ErrClosed) {
			return
		}
		q.now = time.Now()
		for i := range n {
			if size := s.overUDP(ctx, b, &q, i); size > 0 {
				b.reply(i, size)
			}
		}
		s.counters.answered.Add(uint64(b.send()))
	}
}

// overUDP writes the reply to the ith packet of b, which came at q.now, and returns its length, 0 for none.
func (s *Server) overUDP(ctx context.Context, b *batch, q *query, i int) int {
	in := b.packet(i)
	if isSlow(in) {
		to := b.replyAddr(i)
		_ = s.slow(ctx, in, caller{from: b.from(i).Addr().Unmap(),
			write: func(out []byte, more bool) error { s.outbox.post(to, out, more); return nil }})
		return 0
	}
	out := b.replies[i]
	q.from = b.from(i).Addr()
	n := s.directory.answerTo(q, in, out, false)
	if n == 0 || s.limit == nil || q.cookieLen > 0 && s.cookies.knows(q.cookie[:q.cookieLen], q.from, q.now) {
		return n
	}
	switch s.limit.take(q.from, q.now) {
	case cutShort:
		s.counters.cutShort.Add(1)
		return shorten(out[:n])
	case silent:
		s.counters.silenced.Add(1)
		return 0
	}
	return n
}

func (s *Server) serveTCP(ctx context.Context) {
	open := tcpConns{most: s.clients}
	var wg sync.WaitGroup
	defer wg.Wait()
	for {
		c, err := s.tcp.Accept()
		if err != nil {
			if errors.Is(err, net.ErrClosed) {
				return
			}
			s.log.Warn("DNS connection not accepted", "error", err)
			time.Sleep(50 * time.Millisecond) // out of descriptors: let some be closed
			continue
		}
		open.enter(c, time.Now())
		wg.Go(func() {
			defer open.leave(c)
			stop := context.AfterFunc(ctx, func() { _ = c.Close() })
			defer stop()
			s.serveConn(ctx, c, func() { open.enter(c, time.Now()) })
		})
	}
}

// tcpConns are the open connections, each with when it last had a whole question. Where there are too many, the one that has been silent
// for longest has to go (RFC 7766 section 6.2.3): idle connections keep nobody out.
type tcpConns struct {
	mu   sync.Mutex
	last map[net.Conn]time.Time
	most int
}

func (v *tcpConns) enter(c net.Conn, now time.Time) {
	v.mu.Lock()
	defer v.mu.Unlock()
	if v.last == nil {
		v.last = map[net.Conn]time.Time{}
	}
	v.last[c] = now
	if len(v.last) <= v.most {
		return
	}
	var idlest net.Conn
	for other, at := range v.last {
		if other != c && (idlest == nil || at.Before(v.last[idlest])) {
			idlest = other
		}
	}
	delete(v.last, idlest)
	_ = idlest.Close()
}

func (v *tcpConns) leave(c net.Conn) {
	v.mu.Lock()
	defer v.mu.Unlock()
	delete(v.last, c)
}

// serveConn answers the questions of one connection in the order in which they come (RFC 7766 section 6.2.1.1 allows
// that). A client has tcpIdle for each whole question, so that a slow one holds its place no longer than an idle one.
func (s *Server) serveConn(ctx context.Context, c net.Conn, asked func()) {
	defer c.Close()
	from, _ := netip.ParseAddrPort(c.RemoteAddr().String())
	in, out := make([]byte, maxQuery), make([]byte, 2+dns.MaxMsgSize)
	write := func(b []byte, _ bool) error {
		if len(b) > dns.MaxMsgSize {
			return errors.New("the reply is too large")
		}
		_ = c.SetDeadline(time.Now().Add(tcpIdle))
		_, err := c.Write(append(binary.BigEndian.AppendUint16(nil, uint16(len(b))), b...))
		return err
	}
	for {
		_ = c.SetDeadline(time.Now().Add(tcpIdle))
		var size [2]byte
		if _, err := io.ReadFull(c, size[:]); err != nil {
			return
		}
		n := int(binary.BigEndian.Uint16(size[:]))
		if n < headerSize || n > maxQuery {
			return
		}
		if _, err := io.ReadFull(c, in[:n]); err != nil {
			return
		}
		asked()
		if isSlow(in[:n]) {
			if s.slow(ctx, in[:n], caller{from: from.Addr().Unmap(), tcp: true, write: write}) != nil {
				return
			}
			continue
		}
		q := query{cookieSecret: s.cookies, from: from.Addr(), now: time.Now()}
		n = s.directory.answerTo(&q, in[:n], out[2:], true)
		if n == 0 {
			return
		}
		binary.BigEndian.PutUint16(out, uint16(n))
		if _, err := c.Write(out[:2+n]); err != nil {
			return
		}
		s.counters.answered.Add(1)
	}
}
