package trials_test

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/access"
	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/testbed"
)

// vantagePoint enrols one.
func vantagePoint(t *testing.T, s *testbed.Service, name string) (c *client.Client, key string) {
	t.Helper()
	inv, err := s.Client.InviteVantage(t.Context(), contract.VantageInput{Name: name})
	require.NoError(t, err)
	e, err := s.Client.EnrolVantage(t.Context(), inv.Code, "")
	require.NoError(t, err)
	c, err = client.New(s.URL, e.Key)
	require.NoError(t, err)
	return c, e.Key
}

func TestReportsThatSayTheSameAreNotWritten(t *testing.T) {
	t.Parallel()
	database := testbed.Database(t)
	s, _, agent, _ := keyed(t, func(o *options) { o.Database = database })
	report := contract.LANReport{Devices: []contract.DeviceReport{{Device: "recorder", Found: "192.168.7.20", MAC: "02:00:5e:07:00:14"}}}
	s.Device(t, "KET-07", "recorder")
	say := func() {
		require.NoError(t, agent.ReportLAN(t.Context(), report))
		_, err := agent.Announce(t.Context(), testbed.Says("198.51.100.1"))
		require.NoError(t, err)
	}
	written := func() int64 {
		return one[int64](t, database, `SELECT sum(n_tup_ins + n_tup_upd)::bigint FROM pg_stat_user_tables
			WHERE relname IN ('device_report', 'service_state', 'move', 'accepted', 'hostname', 'zone', 'fault')`)
	}
	say()
	settled := func() (n int64) {
		for last := int64(-1); last != n; {
			last = n
			time.Sleep(1100 * time.Millisecond) // the database tells its counts once a second
			n = written()
		}
		return n
	}
	before := settled()
	for range 100 {
		say()
	}
	require.LessOrEqual(t, settled()-before, int64(10), "a hundred reports that say the same")
}

func TestALANReportMovesNoHostnameThatDoesNotFollowTheDevice(t *testing.T) {
	t.Parallel()
	s, name, agent, _ := keyed(t, nil)
	s.Device(t, "KET-07", "recorder")
	serial := testbed.Serial(s.DNS, zone)
	for i := range 5 {
		require.NoError(t, agent.ReportLAN(t.Context(),
			contract.LANReport{Devices: []contract.DeviceReport{{Device: "recorder", Found: "192.168.7.20",
				IPv6: fmt.Sprintf("2001:db8:7::%d", i+1), MAC: "02:00:5e:07:00:14"}}}))
	}
	require.Equal(t, serial, testbed.Serial(s.DNS, zone), name)
	moves, err := s.Client.Moves(t.Context(), contract.MoveQuery{Limit: 5})
	require.NoError(t, err)
	require.Empty(t, moves)
}

func TestAVantagePointSeesWhatItNeedsToProbeAndNoMore(t *testing.T) {
	t.Parallel()
	s := furnished(t, nil)
	require.NoError(t, s.Router(t, "KET-07").Announce(t.Context(), "127.96.0.21"))
	var options probe.Options
	options.PeerKey = "bmV2ZXItdXNlZC1leGNlcHQtaW4tdGVzdHMtMTIzNCE="
	_, err := s.Client.AddService(t.Context(), "KET-07",
		contract.ServiceInput{Name: "tunnel", Device: "recorder", Kind: "wireguard", External: "51820", Interval: 60, Options: options})
	require.NoError(t, err)
	keys := map[string]string{}
	for _, at := range []string{"harbour", "kiosk"} {
		c, key := vantagePoint(t, s, at)
		seen := map[int64]bool{}
		ctx, end := context.WithTimeout(t.Context(), 5*time.Second)
		err := c.Assignments(ctx, 0, time.Minute, func(n contract.AssignmentNews) {
			for _, a := range n.Put {
				seen[a.ID] = true
				if a.ProbeKey != "" {
					keys[at] = a.ProbeKey
				}
			}
			if len(seen) == 2 {
				end()
			}
		})
		require.ErrorIs(t, err, context.Canceled)
		for _, path := range []string{"/sites", "/sites/KET-07", "/zones", "/moves", "/faults", "/overview", "/keys", "/events",
			"/metrics"} {
			require.Contains(t, []int{401, 403, 404}, request(t, "GET", s.URL+"/api/v1"+path, key).StatusCode, path)
		}
	}
	require.Len(t, keys, 2)
	require.NotEqual(t, keys["harbour"], keys["kiosk"], "each vantage point has a WireGuard key of its own")
	svc, err := s.Client.Service(t.Context(), "KET-07", "tunnel")
	require.NoError(t, err)
	require.Len(t, svc.PeerKeys, 2)
}

func TestOpenStreamsEndWithTheirKey(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	_, vantage := vantagePoint(t, s, "harbour")
	read := func(path, key string) <-chan time.Time {
		req, err := http.NewRequestWithContext(t.Context(), "GET", s.URL+"/api/v1"+path, nil)
		require.NoError(t, err)
		req.Header.Set("Authorization", "Bearer "+key)
		r, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		require.Equal(t, 200, r.StatusCode)
		ended := make(chan time.Time, 1)
		go func() {
			_, _ = io.Copy(io.Discard, r.Body)
			ended <- time.Now()
		}()
		return ended
	}
	visit, err := s.Client.SignIn(t.Context(), "owner", s.Password)
	require.NoError(t, err)
	key, err := visit.AddKey(t.Context(), "stream")
	require.NoError(t, err)
	streams := map[string]<-chan time.Time{"vantage": read("/vantage/assignments", vantage), "person": read("/events", key.Secret)}
	require.NoError(t, s.Client.RemoveVantage(t.Context(), "harbour"))
	require.NoError(t, s.Client.RevokeKey(t.Context(), key.ID))
	revoked := time.Now()
	for who, ended := range streams {
		select {
		case at := <-ended:
			require.Less(t, at.Sub(revoked), 2500*time.Millisecond, who)
		case <-time.After(3 * time.Second):
			require.Fail(t, "the stream of a revoked key goes on", who)
		}
	}
}

func TestKeysAndOneTimePasswordsExpireAndSayWhenTheyWereUsed(t *testing.T) {
	t.Parallel()
	ahead := make(chan time.Duration, 1)
	ahead <- 0
	clock := func() time.Time { d := <-ahead; ahead <- d; return time.Now().Add(d) }
	forward := func(d time.Duration) { <-ahead; ahead <- d }
	s := start(t, func(o *options) { o.Clock = clock })
	once, err := access.ResetPassword(t.Context(), s.Store(), "owner", clock(), false)
	require.NoError(t, err)
	_, err = s.Client.SignIn(t.Context(), "owner", once)
	require.NoError(t, err)
	forward(73 * time.Hour)
	_, err = s.Client.SignIn(t.Context(), "owner", once)
	require.Equal(t, 401, status(err), "a one-time password holds for three days")
	keys, err := s.Client.Keys(t.Context())
	require.NoError(t, err)
	var test contract.Key
	for _, k := range keys {
		if k.Label == "test" {
			test = k
		}
	}
	require.WithinDuration(t, clock(), test.Used, 2*time.Minute)
	require.False(t, test.Expires.IsZero(), "a person's key expires")
	forward(time.Until(test.Expires) + time.Hour) // the clock goes on from then
	_, err = s.Client.Keys(t.Context())
	require.Equal(t, 401, status(err))

	_, err = access.ResetPassword(t.Context(), s.Store(), "onwer", clock(), false)
	require.Error(t, err, "a reset of a name that nobody has makes no account")
	require.ErrorContains(t, err, "onwer")
	_, err = access.ResetPassword(t.Context(), s.Store(), "colleague", clock(), true)
	require.NoError(t, err)
}

func TestWrongKeysAreANoteAndNeverAFault(t *testing.T) {
	t.Parallel()
	s, _, _, router := keyed(t, nil)
	for range 20 {
		req, err := http.NewRequestWithContext(t.Context(), "GET", s.URL+"/announce?ipv4=198.51.100.9", nil)
		require.NoError(t, err)
		req.SetBasicAuth("KET-07", "inkpost-guessed")
		r, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		require.NoError(t, r.Body.Close())
		require.Equal(t, 401, r.StatusCode)
	}
	l, err := s.Client.Link(t.Context(), "KET-07", "main")
	require.NoError(t, err)
	require.Len(t, l.Report.Refused, 1)
	require.Equal(t, 20, l.Report.Refused[0].Count)
	require.True(t, l.Report.Refused[0].Stranger)
	// A refusal that is one is noticed afterwards: by then the strangers would have been.
	require.Contains(t, says(t, s.URL+"/announce/"+router.Secret+"?ipv4=198.51.100.66"), "refused:")
	var faults []contract.Fault
	soon(t, 10*time.Second, "the router's refusal is a fault", func() bool {
		faults, err = s.Client.Faults(t.Context(), "KET-07", true)
		require.NoError(t, err)
		return len(faults) == 1
	})
	require.NotContains(t, faults[0].Finding.Summary, "wrong key")
}

func TestTheServerRefusesLANAddressesThatAreNone(t *testing.T) {
	t.Parallel()
	s := start(t, func(o *options) { o.Policy.LANs = nil })
	s.Record(t, "KET-07")
	for _, address := range []string{"127.0.0.1", "169.254.169.254", "198.51.100.7", "8.8.8.8", "::1", "2001:db8::1", "0.0.0.0",
		"224.0.0.1", "fd00:ec2::254"} {
		_, err := s.Client.AddDevice(t.Context(), "KET-07", contract.DeviceInput{Name: "recorder", Address: address})
		require.Equal(t, 422, status(err), address)
		require.ErrorContains(t, err, "lan_address", address)
	}
	for i, address := range []string{"192.168.7.20", "10.0.0.4", "172.31.255.1", "169.254.7.7", "fe80::7", "fd00:7::20"} {
		_, err := s.Client.AddDevice(t.Context(), "KET-07", contract.DeviceInput{Name: fmt.Sprintf("d%d", i), Address: address})
		require.NoError(t, err, address)
	}
}

func TestAnOutcomeOfTheServiceAsItWasDoesNotCount(t *testing.T) {
	t.Parallel()
	s := furnished(t, nil)
	require.NoError(t, s.Router(t, "KET-07").Announce(t.Context(), "127.96.0.21"))
	c, _ := vantagePoint(t, s, "harbour")
	var assigned contract.Assignment
	ctx, end := context.WithTimeout(t.Context(), 5*time.Second)
	defer end()
	_ = c.Assignments(ctx, 0, time.Minute, func(n contract.AssignmentNews) {
		if len(n.Put) > 0 {
			assigned = n.Put[0]
			end()
		}
	})
	require.NotZero(t, assigned.ID)
	report := func(revision int64) int {
		batch := contract.OutcomeBatch{Sent: time.Now(),
			Outcomes: []contract.OutcomeReport{{Service: assigned.ID, Revision: revision, At: time.Now(),
				Target: assigned.Target, Outcome: probe.Opened, Fingerprint: "tls:0000"}}}
		taken, err := c.ReturnOutcomes(t.Context(), batch)
		require.NoError(t, err)
		return taken.Taken
	}
	require.Equal(t, 1, report(assigned.Revision))
	_, err := s.Client.EditService(t.Context(), "KET-07", "page", client.Fields{"external": "9443"})
	require.NoError(t, err)
	require.Zero(t, report(assigned.Revision), "it is about the port as it was")
	svc, err := s.Client.Service(t.Context(), "KET-07", "page")
	require.NoError(t, err)
	require.NotEqual(t, probe.Opened, svc.Outcome)
	require.Empty(t, svc.Fingerprint)

	// A pin of what was read before an edit leaves the edit alone.
	_, err = s.Client.Pin(t.Context(), "KET-07", "page", "tls:0000")
	if err == nil {
		svc, err = s.Client.Service(t.Context(), "KET-07", "page")
		require.NoError(t, err)
	}
	require.Equal(t, "9443", svc.External)
}

func TestANarrowedRangeIsProbedOn(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	var ports []int
	var doors []net.Listener
	for base := 20001; len(doors) < 3; base += 7 {
		doors, ports = doors[:0], ports[:0]
		for i := range 3 {
			if l, err := net.Listen("tcp", fmt.Sprintf("127.96.0.9:%d", base+i)); err == nil {
				doors, ports = append(doors, l), append(ports, base+i)
				t.Cleanup(func() { _ = l.Close() })
			}
		}
	}
	s.Record(t, "KET-07")
	s.Device(t, "KET-07", "recorder")
	require.NoError(t, s.Router(t, "KET-07").Announce(t.Context(), "127.96.0.9"))
	_, err := s.Client.AddService(t.Context(), "KET-07",
		contract.ServiceInput{Name: "page", Device: "recorder", External: fmt.Sprintf("%d-%d", ports[0], ports[2]), Interval: 1})
	require.NoError(t, err)
	state := func() (contract.Service, bool) {
		svc, err := s.Client.Service(t.Context(), "KET-07", "page")
		require.NoError(t, err)
		return svc, svc.State == probe.StateReachable
	}
	soon(t, 5*time.Second, "it is reachable", func() bool { _, ok := state(); return ok })
	for i := range 6 { // edits while rounds are under way
		_, err := s.Client.EditService(t.Context(), "KET-07", "page", client.Fields{"external": fmt.Sprintf("%d-%d", ports[0], ports[i%3])})
		require.NoError(t, err)
	}
	_, err = s.Client.EditService(t.Context(), "KET-07", "page", client.Fields{"external": fmt.Sprint(ports[0])})
	require.NoError(t, err)
	var at time.Time
	soon(t, 5*time.Second, "it is reachable", func() bool { svc, ok := state(); at = svc.Probed; return ok })
	soon(t, 5*time.Second, "it is probed again", func() bool { svc, ok := state(); return ok && svc.Probed.After(at) })
	require.NoError(t, doors[0].Close())
	soon(t, 12*time.Second, "its end is seen", func() bool { _, ok := state(); return !ok })
}

func TestIPv6PublicIsGlobalUnicastLessTheSpecialPurposes(t *testing.T) {
	t.Parallel()
	for address, want := range map[string]wan.Class{
		"2600::1": wan.ClassPublic, "2a00:1450::1": wan.ClassPublic, "2001:db8::1": wan.ClassDocumentation,
		"fd00::1": wan.ClassPrivate, "fe80::1": wan.ClassLinkLocal,
		"ff02::1": wan.ClassMulticast, "::1": wan.ClassLoopback,
	} {
		require.Equal(t, want, wan.ClassOf(netip.MustParseAddr(address)), address)
	}
	for _, address := range []string{"4000::1", "100::1", "2001:2::1", "2001:10::1", "3fff::1", "5f00::1", "64:ff9b:1::1", "::",
		"e000::1"} {
		require.NotEqual(t, wan.ClassPublic, wan.ClassOf(netip.MustParseAddr(address)), address)
	}
}

func TestASiteWithTwoFamiliesNamesTheLinkThatItsAddressesAreOf(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	s.Record(t, "KET-07")
	_, err := s.Client.AddLink(t.Context(), "KET-07", contract.LinkInput{Label: "second"})
	require.NoError(t, err)
	r, err := testbed.NewRouter(t.Context(), s.Client, "KET-07", "second")
	require.NoError(t, err)
	require.NoError(t, r.Announce(t.Context(), "198.51.100.9", "2001:db8::9"))
	require.NoError(t, s.Router(t, "KET-07").Announce(t.Context(), "198.51.100.8", "2001:db8::8"))
	site, err := s.Client.Site(t.Context(), "KET-07")
	require.NoError(t, err)
	require.Equal(t, "main", site.Link)
	require.Contains(t, site.Address, "198.51.100.8")
	_, err = s.Client.EditLink(t.Context(), "KET-07", "main", client.Fields{"position": 3})
	require.NoError(t, err)
	soon(t, 5*time.Second, "the head names the link that is preferred now", func() bool {
		site, err = s.Client.Site(t.Context(), "KET-07")
		require.NoError(t, err)
		return site.Link == "second" && strings.Contains(site.Address, "198.51.100.9") && strings.Contains(site.Address, "2001:db8::9")
	})
}
