package daemon

import (
	"bytes"
	"fmt"
	"log/slog"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/wire/authdns"
)

func TestDescriptorsArePartedSoThatNobodyTakesAll(t *testing.T) {
	for _, files := range []uint64{0, 64, 256, 1024, 65536, 1 << 30} {
		s := parted(files)
		for what, n := range map[string]int{"probes": s.probes, "http": s.http, "dns": s.dns, "redirects": s.redirects} {
			require.Positive(t, n, "%s of %d", what, files)
		}
		require.LessOrEqual(t, s.probes+s.http+s.dns+s.redirects, int(max(files, 2*reserved))-reserved,
			"some stay for the database, of %d", files)
	}
}

func TestConnectionsAreBoundedInAllAndByNetwork(t *testing.T) {
	inner, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	l := bound(inner, 40, []netip.Prefix{netip.MustParsePrefix("127.0.7.0/24")})
	t.Cleanup(func() { _ = l.Close() })
	accepted := make(chan net.Conn, 100)
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				close(accepted)
				return
			}
			accepted <- c
		}
	}()
	from := func(network byte) net.Conn {
		d := net.Dialer{LocalAddr: &net.TCPAddr{IP: net.IPv4(127, 0, network, 1)}}
		c, err := d.Dial("tcp", inner.Addr().String())
		require.NoError(t, err)
		t.Cleanup(func() { _ = c.Close() })
		return c
	}
	closed := func(c net.Conn) bool {
		_ = c.SetReadDeadline(time.Now().Add(2 * time.Second))
		_, err := c.Read(make([]byte, 1))
		return err != nil && !strings.Contains(err.Error(), "timeout")
	}
	for range 10 { // a quarter of all
		from(1)
	}
	require.True(t, closed(from(1)), "one network has had its part")
	from(2)
	var first net.Conn
	for range 11 {
		first = <-accepted
	}
	open := func() int {
		l.mu.Lock()
		defer l.mu.Unlock()
		return l.all
	}
	require.Equal(t, 11, open())
	for range 29 { // a trusted proxy speaks for many
		from(7)
		<-accepted
	}
	require.True(t, closed(from(3)), "all are taken")
	require.NoError(t, first.Close())
	_ = first.Close() // twice, as servers do
	require.Eventually(t, func() bool { return open() == 39 }, time.Second, time.Millisecond)
	from(4)
	require.NotNil(t, <-accepted, "whoever leaves makes room")
}

func TestLinesThatRepeatAreSummed(t *testing.T) {
	var out bytes.Buffer
	now := time.Date(2026, 3, 4, 12, 0, 0, 0, time.UTC)
	h := sum(slog.NewTextHandler(&out, nil)).(summed)
	h.seen.now = func() time.Time { return now }
	log := slog.New(h)
	lines := func() int { n := strings.Count(out.String(), "\n"); return n }
	for range 5000 {
		log.Error("announcements not recorded", "count", 1)
	}
	require.LessOrEqual(t, lines(), repeatsFree)
	log.With("zone", "isles").WithGroup("g").Warn("something else", "a", 1)
	require.Contains(t, out.String(), "something else", "another line is written")
	out.Reset()
	now = now.Add(sumEvery)
	log.Error("announcements not recorded", "count", 1)
	require.Equal(t, 1, lines())
	require.Contains(t, out.String(), "times_since_the_last_line=4980")
	for i := range 3 * maxSeen {
		log.Info(fmt.Sprint("line ", i))
	}
	require.LessOrEqual(t, len(h.seen.lines), maxSeen)
}

func TestTheCopyOfTheZonesIsWholeOrNotUsed(t *testing.T) {
	soa, err := dns.NewRR("isles.saltmarsh.example. 30 IN SOA ns1.isles.saltmarsh.example. post.saltmarsh.example. 4242 3600 " +
		"300 1209600 30")
	require.NoError(t, err)
	address, err := dns.NewRR("ket-07.isles.saltmarsh.example. 30 IN A 198.51.100.7")
	require.NoError(t, err)
	set, err := authdns.NewRRset(address)
	require.NoError(t, err)
	z, err := authdns.NewZone(soa.(*dns.SOA), authdns.Names{"ket-07.isles.saltmarsh.example": {set}})
	require.NoError(t, err)
	c := copyIn(t.TempDir())
	_, err = c.read()
	require.ErrorIs(t, err, os.ErrNotExist)
	require.NoError(t, c.write([]*authdns.Zone{z}))
	zones, err := c.read()
	require.NoError(t, err)
	require.Equal(t, map[string]uint32{"isles.saltmarsh.example": 4242}, serials(zones))

	whole, err := os.ReadFile(string(c))
	require.NoError(t, err)
	for what, damage := range map[string]func([]byte) []byte{
		"cut":         func(b []byte) []byte { return b[:len(b)-7] },
		"one bit":     func(b []byte) []byte { b[len(b)/2] ^= 4; return b },
		"empty":       func([]byte) []byte { return nil },
		"another one": func([]byte) []byte { return []byte("something else\n") },
		"longer":      func(b []byte) []byte { return append(b, 0) },
	} {
		t.Run(what, func(t *testing.T) {
			require.NoError(t, os.WriteFile(string(c), damage(bytes.Clone(whole)), 0o600))
			_, err := c.read()
			require.ErrorContains(t, err, "is damaged, and is not used")
		})
	}
	_, err = copyIn("").read()
	require.ErrorIs(t, err, os.ErrNotExist)
	left, err := filepath.Glob(filepath.Join(filepath.Dir(string(c)), "*"))
	require.NoError(t, err)
	require.Len(t, left, 1, "nothing half-written is left beside it")
}
