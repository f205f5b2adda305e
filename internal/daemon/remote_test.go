package daemon_test

import (
	"fmt"
	"net"
	"net/netip"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/testbed"
)

const (
	quay      = "quay.saltmarsh.example"
	pushKey   = "quay-push.saltmarsh.example"
	pushWords = "c2xpcHdheS1nYW5uZXQta2V0dGxlLWZlcnJ5LTAwMDE="
)

// remote records a remote zone, the key of its primary, and a site with a name in it. Nothing is pushed yet.
func remote(t *testing.T, s *testbed.Service, primary, transport string) {
	t.Helper()
	ctx, c := t.Context(), s.Client
	_, err := c.AddSigningKey(ctx, contract.SigningKeyInput{Name: pushKey, Secret: pushWords})
	require.NoError(t, err)
	_, err = c.AddZone(ctx, contract.ZoneInput{Apex: quay, Kind: "remote", Primary: primary, PrimaryKey: pushKey, Transport: transport})
	require.NoError(t, err)
	record(t, s, "QUA-01")
	_, err = c.AddHostname(ctx, contract.HostnameInput{Name: "ferry." + quay, Site: "QUA-01", Extras: []string{"www"},
		Mail: "mail.saltmarsh.example"})
	require.NoError(t, err)
	_, err = c.AddAlias(ctx, contract.AliasInput{Name: "tickets." + quay, Hostname: "ferry." + quay})
	require.NoError(t, err)
	_, err = c.AddZoneRecord(ctx, quay, contract.RecordInput{Name: "notes." + quay, Type: "TXT", Data: `"Made by Ink Post"`})
	require.NoError(t, err)
}

// ask gives the data of the records that a server has of a name and type.
func ask(t *testing.T, server, name string, qtype uint16) (out []string) {
	t.Helper()
	client := dns.Client{Timeout: 2 * time.Second}
	r, _, err := client.Exchange(new(dns.Msg).SetQuestion(name+".", qtype), server)
	require.NoError(t, err)
	for _, rr := range r.Answer {
		switch rr := rr.(type) {
		case *dns.A:
			out = append(out, rr.A.String())
		case *dns.AAAA:
			out = append(out, rr.AAAA.String())
		case *dns.TXT:
			out = append(out, rr.Txt...)
		case *dns.MX:
			out = append(out, rr.Mx)
		case *dns.CNAME:
			out = append(out, rr.Target)
		}
	}
	return out
}

func state(t *testing.T, s *testbed.Service, name string) names.State {
	t.Helper()
	h, err := s.Client.Hostname(t.Context(), name)
	require.NoError(t, err)
	return h.State
}

// change sends somebody else's update to a primary.
func change(t *testing.T, server string, fill func(m *dns.Msg)) {
	t.Helper()
	m := new(dns.Msg).SetUpdate(quay + ".")
	fill(m)
	m.SetTsig(pushKey+".", dns.HmacSHA256, 300, time.Now().Unix())
	c := dns.Client{TsigSecret: map[string]string{pushKey + ".": pushWords}, Net: "tcp"}
	r, _, err := c.Exchange(m, server)
	require.NoError(t, err)
	require.Equal(t, dns.RcodeSuccess, r.Rcode)
}

func TestNamesGoToRealPrimaries(t *testing.T) {
	for program, x := range map[string]struct {
		start     func(testing.TB, testbed.Primary) *testbed.Secondary
		transport string
	}{"BIND": {testbed.StartBINDPrimary, "tcp"}, "Knot": {testbed.StartKnotPrimary, "udp"}} {
		t.Run(program, func(t *testing.T) {
			primary := x.start(t, testbed.Primary{Zone: quay, Key: pushKey, Secret: pushWords, Listen: testbed.FreePort(t),
				Records: "hand A 198.51.100.99\nferry A 198.51.100.250\nferry TXT \"theirs\"\nwww.ferry CNAME hand\n"})
			s := testbed.Start(t, nil)
			ctx, c := t.Context(), s.Client
			remote(t, s, primary.Addr(), x.transport)
			agent := enrol(t, s, "QUA-01")
			announce(t, agent, "198.51.100.10")

			before, err := c.ZoneDifferences(ctx, quay)
			require.NoError(t, err)
			require.Contains(t, before, names.Difference{Name: "ferry." + quay, Type: "A", Now: []string{"198.51.100.250"},
				Want: []string{"198.51.100.10"}})
			require.Contains(t, before, names.Difference{Name: "tickets." + quay, Type: "CNAME", Now: nil,
				Want: []string{"ferry." + quay + "."}})
			require.Equal(t, []string{"198.51.100.250"}, ask(t, primary.Addr(), "ferry."+quay, dns.TypeA), "a dry run pushes nothing")
			require.Equal(t, names.StateHeld, state(t, s, "ferry."+quay), "nothing is pushed before somebody says so")

			_, err = c.PushZone(ctx, quay)
			require.NoError(t, err)
			require.Eventually(t, func() bool {
				pushes, err := s.Client.ZonePushes(t.Context(), quay)
				return err == nil && len(pushes) == 4 && pushes[0].State == contract.PushTaken && pushes[1].State == contract.PushTaken &&
					pushes[2].State == contract.PushTaken && pushes[3].State == "refused"
			}, 15*time.Second, 50*time.Millisecond, "three of the names are taken, that which is an alias there is not")
			require.Equal(t, names.StateHeld, state(t, s, "ferry."+quay))
			require.Eventually(t, func() bool {
				faults, err := s.Client.Faults(t.Context(), "QUA-01", true)
				return err == nil && len(faults) > 0 && faults[0].Finding.Cause == "primary-refuses"
			}, 5*time.Second, 50*time.Millisecond, "the refusal is a fault of the site")
			pushes, err := c.ZonePushes(ctx, quay)
			require.NoError(t, err)
			require.Contains(t, pushes[3].Detail, "an alias (CNAME) there")

			change(t, primary.Addr(), func(m *dns.Msg) {
				m.RemoveRRset([]dns.RR{&dns.CNAME{Hdr: dns.RR_Header{Name: "www.ferry." + quay + ".", Rrtype: dns.TypeCNAME,
					Class: dns.ClassINET}}})
			})
			_, err = c.PushZone(ctx, quay)
			require.NoError(t, err)
			require.Eventually(t, func() bool { return len(ask(t, primary.Addr(), "www.ferry."+quay, dns.TypeA)) == 1 },
				15*time.Second, 50*time.Millisecond)
			for _, name := range []string{"ferry.", "www.ferry."} {
				require.Equal(t, []string{"198.51.100.10"}, ask(t, primary.Addr(), name+quay, dns.TypeA), name)
			}
			require.Equal(t, []string{"mail.saltmarsh.example."}, ask(t, primary.Addr(), "ferry."+quay, dns.TypeMX))
			require.Equal(t, []string{"theirs"}, ask(t, primary.Addr(), "ferry."+quay, dns.TypeTXT),
				"records of types that are not ours stay")
			require.Equal(t, []string{"198.51.100.99"}, ask(t, primary.Addr(), "hand."+quay, dns.TypeA), "names that are not ours stay")
			require.Equal(t, []string{"Made by Ink Post"}, ask(t, primary.Addr(), "notes."+quay, dns.TypeTXT))

			announce(t, agent, "198.51.100.11")
			require.Eventually(t, func() bool {
				got := ask(t, primary.Addr(), "www.ferry."+quay, dns.TypeA)
				return len(got) == 1 && got[0] == "198.51.100.11"
			}, 5*time.Second, 20*time.Millisecond, "a move reaches the primary")
			require.Eventually(t, func() bool {
				moves, err := s.Client.Moves(t.Context(), contract.MoveQuery{Site: "QUA-01", Limit: 1})
				return err == nil && len(moves) == 1 && len(moves[0].Zones) == 1 && moves[0].Zones[0].Zone == quay &&
					!moves[0].Stages[3].At.IsZero()
			}, 5*time.Second, 50*time.Millisecond, "the move says when the zone had it")

			change(t, primary.Addr(), func(m *dns.Msg) {
				a := &dns.A{Hdr: dns.RR_Header{Name: "ferry." + quay + ".", Rrtype: dns.TypeA, Class: dns.ClassINET, Ttl: 60},
					A: net.ParseIP("198.51.100.66")}
				m.RemoveRRset([]dns.RR{a})
				m.Insert([]dns.RR{a})
			})
			require.Eventually(t, func() bool { return ask(t, primary.Addr(), "ferry."+quay, dns.TypeA)[0] == "198.51.100.11" },
				15*time.Second, 50*time.Millisecond, "what somebody changes by hand is put right")

			require.NoError(t, c.RemoveAlias(ctx, "tickets."+quay))
			require.Eventually(t, func() bool { return ask(t, primary.Addr(), "tickets."+quay, dns.TypeCNAME) == nil },
				15*time.Second, 50*time.Millisecond, "what is removed here is removed there")
		})
	}
}

func TestWhyAPrimaryRefusesIsSaid(t *testing.T) {
	primary := testbed.StartKnotPrimary(t, testbed.Primary{Zone: quay, Key: pushKey,
		Secret: "b3RoZXItd29yZHMtb3RoZXItd29yZHMtb3RoZXItd29yZHM=", Listen: testbed.FreePort(t)})
	s := testbed.Start(t, nil)
	remote(t, s, primary.Addr(), "udp")
	announce(t, enrol(t, s, "QUA-01"), "198.51.100.10")
	_, err := s.Client.PushZone(t.Context(), quay)
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		h, err := s.Client.Hostname(t.Context(), "ferry."+quay)
		return err == nil && h.State == names.StateHeld && h.Held == "NOTAUTH, BADSIG: its secret for this key is another one"
	}, 10*time.Second, 50*time.Millisecond)
}

// gate lets packets for a primary through, or refuses them, and counts the updates that it lets through, by name.
type gate struct {
	address string
	primary string
	mu      sync.Mutex
	socket  net.PacketConn
	updates map[string]int
	total   atomic.Int64
}

func (g *gate) open(t *testing.T) {
	socket, err := net.ListenPacket("udp", g.address)
	require.NoError(t, err)
	g.mu.Lock()
	g.socket, g.address, g.updates = socket, socket.LocalAddr().String(), map[string]int{}
	g.mu.Unlock()
	go func() {
		buffer := make([]byte, 4096)
		for {
			n, from, err := socket.ReadFrom(buffer)
			if err != nil {
				return
			}
			m := new(dns.Msg)
			if m.Unpack(buffer[:n]) == nil && m.Opcode == dns.OpcodeUpdate {
				g.mu.Lock()
				g.updates[m.Ns[0].Header().Name]++
				g.mu.Unlock()
				g.total.Add(1)
			}
			go func(request []byte) {
				c, err := net.Dial("udp", g.primary)
				if err != nil {
					return
				}
				defer c.Close()
				_ = c.SetDeadline(time.Now().Add(3 * time.Second))
				reply := make([]byte, 4096)
				if _, err := c.Write(request); err != nil {
					return
				}
				if n, err := c.Read(reply); err == nil {
					_, _ = socket.WriteTo(reply[:n], from)
				}
			}(append([]byte(nil), buffer[:n]...))
		}
	}()
}

func (g *gate) close() { _ = g.socket.Close() }

func (g *gate) counts() map[string]int {
	g.mu.Lock()
	defer g.mu.Unlock()
	out := map[string]int{}
	for k, v := range g.updates {
		out[k] = v
	}
	return out
}

func TestAPrimaryThatWasAwayGetsEachNameOnceAndTheNewest(t *testing.T) {
	const sites, movesEach = 20, 50
	primary := testbed.StartKnotPrimary(t, testbed.Primary{Zone: quay, Key: pushKey, Secret: pushWords, Listen: testbed.FreePort(t)})
	g := &gate{address: "127.0.0.1:0", primary: primary.Addr()}
	g.open(t)
	var ahead atomic.Int64 // of the real clock
	s := testbed.Start(t, func(o *testbed.Options) {
		o.Clock = func() time.Time { return time.Now().Add(time.Duration(ahead.Load())).UTC().Truncate(time.Microsecond) }
		o.VerifyEvery = time.Hour
	})
	ctx := t.Context()
	_, err := s.Client.AddSigningKey(ctx, contract.SigningKeyInput{Name: pushKey, Secret: pushWords})
	require.NoError(t, err)
	_, err = s.Client.AddZone(ctx, contract.ZoneInput{Apex: quay, Kind: "remote", Primary: g.address, PrimaryKey: pushKey})
	require.NoError(t, err)
	_, err = s.Client.PushZone(ctx, quay)
	require.NoError(t, err)
	var links []int64
	var hosts []string
	for i := range sites {
		at, err := s.Store().AddSite(ctx, site.Site{Code: fmt.Sprintf("QUA-%02d", i), Name: "Pier"})
		require.NoError(t, err)
		link, err := s.Store().AddLink(ctx, site.Link{SiteID: at.ID, Label: "main", Mode: site.Dynamic, Position: 1})
		require.NoError(t, err)
		links = append(links, link)
		hosts = append(hosts, fmt.Sprintf("pier-%02d.%s", i, quay))
		z, err := s.Store().Zone(ctx, quay)
		require.NoError(t, err)
		_, _, err = s.Store().PutHostname(ctx, site.Hostname{Name: names.Name(hosts[i]), ZoneID: z.ID, SiteID: at.ID, TTL: 30})
		require.NoError(t, err)
	}
	require.NoError(t, s.Engine().Reload(ctx))
	address := func(site, move int) netip.Addr {
		return netip.AddrFrom4([4]byte{198, 51, 100, byte((site*movesEach + move) % 250)})
	}
	move := func(site, n int) error {
		_, err := s.Engine().Announce(ctx, links[site],
			wan.Announcement{Addresses: wan.PairOf(address(site, n)), Source: wan.SourceGateway, Noticed: time.Now()})
		return err
	}
	for i := range sites {
		require.NoError(t, move(i, 0))
	}
	require.Eventually(t, func() bool { return len(g.counts()) == sites }, 30*time.Second, 50*time.Millisecond, "all names are there once")

	g.close()
	for n := 1; n <= movesEach; n++ {
		var group errgroup.Group
		for i := range sites {
			group.Go(func() error { return move(i, n) })
		}
		require.NoError(t, group.Wait())
		ahead.Add(int64(time.Hour / movesEach))
	}
	require.Eventually(t, func() bool {
		faults, err := s.Client.Faults(t.Context(), "", true)
		away := 0
		for _, f := range faults {
			if f.Finding.Cause == "primary-away" {
				away++
			}
		}
		return err == nil && away == sites
	}, 20*time.Second, 100*time.Millisecond, "that the primary is away is a fault of each site")

	g.open(t)
	ahead.Add(int64(10 * time.Minute)) // longer than any wait
	require.Eventually(t, func() bool { return len(g.counts()) == sites }, 60*time.Second, 100*time.Millisecond, "all names go there")
	for i, name := range hosts {
		require.Eventually(t, func() bool {
			got := ask(t, primary.Addr(), name, dns.TypeA)
			return len(got) == 1 && got[0] == address(i, movesEach).String()
		}, 20*time.Second, 50*time.Millisecond, "%s has its newest address", name)
	}
	for name, n := range g.counts() {
		require.Equal(t, 1, n, "updates of %s on return", name)
	}
	ahead.Add(int64(25 * time.Hour))
	require.Eventually(t, func() bool {
		for _, n := range g.counts() {
			if n != 2 {
				return false
			}
		}
		return true
	}, 30*time.Second, 100*time.Millisecond, "after a day each name is told again, once")
	moves, err := s.Client.Moves(ctx, contract.MoveQuery{Limit: 500})
	require.NoError(t, err)
	require.Len(t, moves, 500)
}

func TestRemoteZonesThatCannotBe(t *testing.T) {
	s := testbed.Start(t, nil)
	ctx, c := t.Context(), s.Client
	record(t, s, "KET-07")
	add := func(in contract.ZoneInput) error { in.Apex = quay; _, err := c.AddZone(ctx, in); return err }
	for name, x := range map[string]struct {
		err        error
		field, why string
	}{
		"no primary":      {add(contract.ZoneInput{Kind: "remote"}), "primary", "needs the address of its primary"},
		"primary by name": {add(contract.ZoneInput{Kind: "remote", Primary: "ns1.elsewhere.example"}), "primary", "neither an address"},
		"unknown kind":    {add(contract.ZoneInput{Kind: "borrowed"}), "kind", "hosted or remote"},
		"unknown transport": {add(contract.ZoneInput{Kind: "remote", Primary: "198.51.100.53", Transport: "pigeon"}), "primary",
			"udp or tcp"},
		"unknown key": {add(contract.ZoneInput{Kind: "remote", Primary: "198.51.100.53", PrimaryKey: "nobody.example"}),
			"primary_key", "there is no signing key"},
		"servers of its own": {add(contract.ZoneInput{Kind: "remote", Primary: "198.51.100.53",
			Servers: []string{"ns.elsewhere.example"}}), "primary", "its primary has its servers"},
		"too often": {add(contract.ZoneInput{Kind: "remote", Primary: "198.51.100.53", Reassert: 5}), "primary",
			"cannot be pushed again every 5 seconds"},
		"hosted and pushed": {add(contract.ZoneInput{Servers: []string{"ns." + quay + "=198.51.100.1"}, Primary: "198.51.100.53"}),
			"servers", "is hosted here"},
		"a template for all": {add(contract.ZoneInput{Servers: []string{"ns." + quay + "=198.51.100.1"}, Template: "site." + quay}),
			"template", "the same name for every site"},
		"a template outside": {add(contract.ZoneInput{Servers: []string{"ns." + quay + "=198.51.100.1"},
			Template: "{code}.elsewhere.example"}), "template", "not below"},
	} {
		t.Run(name, func(t *testing.T) { refused(t, x.err, 422, x.field, x.why) })
	}
	_, err := c.ZoneDifferences(ctx, zone)
	refused(t, err, 422, "apex", "is hosted here")
	_, err = c.EditZone(ctx, zone, client.Fields{"kind": "remote"})
	refused(t, err, 422, "kind", "a zone stays hosted")
	_, err = c.AddSigningKey(ctx, contract.SigningKeyInput{Name: "k.example", Secret: "short"})
	refused(t, err, 422, "secret", "base64 of 16 octets")
	require.NoError(t, add(contract.ZoneInput{Kind: "remote", Primary: fmt.Sprintf("127.0.0.1:%d", testbed.FreePort(t))}))
	_, err = c.AddHostname(ctx, contract.HostnameInput{Name: "ferry." + quay, Site: "KET-07"})
	require.NoError(t, err)
	announce(t, enrol(t, s, "KET-07"), "198.51.100.10")
	_, err = c.ZoneDifferences(ctx, quay)
	refused(t, err, 502, "", "could not be asked")
	_, err = c.AddZoneRecord(ctx, quay, contract.RecordInput{Name: "away." + quay, Type: "NS", Data: "ns.elsewhere.example."})
	refused(t, err, 422, "type", "its primary has its name servers")
}
