package trials_test

import (
	"context"
	"fmt"
	"net"
	"sync/atomic"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/lab"
	"inkpost.example/inkpost/internal/testbed"
)

// weather is a UDP way to a primary, on which packets are late or lost.
type weather struct {
	at     string
	mode   atomic.Value // "fair", "slow", "away", "lossy"
	passed atomic.Int64
}

func underWeather(t *testing.T, primary string) *weather {
	t.Helper()
	front, err := net.ListenPacket("udp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = front.Close() })
	w := &weather{at: front.LocalAddr().String()}
	w.mode.Store("fair")
	go func() {
		buffer := make([]byte, 4096)
		for n := 0; ; n++ {
			size, from, err := front.ReadFrom(buffer)
			if err != nil {
				return
			}
			mode := w.mode.Load().(string)
			if mode == "away" || mode == "lossy" && n%2 == 0 {
				continue
			}
			packet := append([]byte(nil), buffer[:size]...)
			go func() {
				if mode == "slow" {
					time.Sleep(1500 * time.Millisecond) // that is how slow it is
				}
				back, err := net.Dial("udp", primary)
				if err != nil {
					return
				}
				defer back.Close()
				_ = back.SetDeadline(time.Now().Add(3 * time.Second))
				_, _ = back.Write(packet)
				reply := make([]byte, 4096)
				if n, err := back.Read(reply); err == nil {
					w.passed.Add(1)
					_, _ = front.WriteTo(reply[:n], from)
				}
			}()
		}
	}()
	return w
}

const (
	quay    = "quay.saltmarsh.example"
	pushKey = "quay-push.saltmarsh.example"
	words   = "c2xpcHdheS1nYW5uZXQta2V0dGxlLWZlcnJ5LTAwMDE="
)

// poor is a primary of quay, on the way to which there is weather.
func poor(t *testing.T) (at string, way *weather) {
	t.Helper()
	primary, err := lab.NewPrimary("127.0.0.1:0", quay, pushKey, words)
	require.NoError(t, err)
	t.Cleanup(func() { _ = primary.SetRunning(false) })
	return primary.Addr(), underWeather(t, primary.Addr())
}

// pushed records quay as a zone that is pushed to a primary, and names in it of a site.
func pushed(t *testing.T, c *client.Client, primary, site string, labels ...string) {
	t.Helper()
	_, err := c.AddSigningKey(t.Context(), contract.SigningKeyInput{Name: pushKey, Secret: words})
	require.NoError(t, err)
	_, err = c.AddZone(t.Context(), contract.ZoneInput{Apex: quay, Kind: "remote", Primary: primary, PrimaryKey: pushKey, Transport: "udp"})
	require.NoError(t, err)
	for _, label := range labels {
		_, err = c.AddHostname(t.Context(), contract.HostnameInput{Name: label + "." + quay, Site: site})
		require.NoError(t, err)
	}
}

func TestAPushSurvivesTheServerThatMakesIt(t *testing.T) {
	t.Parallel()
	primary, way := poor(t)
	database := testbed.Database(t)
	p := testbed.Launch(t, database)
	c, key := p.Owner(t)
	s := &testbed.Service{Client: c}
	s.Record(t, "QUA-01")
	pushed(t, c, way.at, "QUA-01", "ferry", "slip", "pier")
	r, err := testbed.NewRouter(t.Context(), c, "QUA-01", "main")
	require.NoError(t, err)
	require.NoError(t, r.Announce(t.Context(), "198.51.100.1"))
	_, err = c.PushZone(t.Context(), quay)
	require.NoError(t, err)
	there := func(address string) func() bool {
		return func() bool {
			for _, label := range []string{"ferry", "slip", "pier"} {
				if testbed.Resolve(primary, label+"."+quay) != address {
					return false
				}
			}
			return true
		}
	}
	require.Eventually(t, there("198.51.100.1"), 20*time.Second, 20*time.Millisecond)

	const kills = 12
	longest := time.Duration(0)
	for kill := range kills {
		mode := []string{"slow", "away", "lossy"}[kill%3]
		way.mode.Store(mode)
		address := fmt.Sprintf("198.51.100.%d", 10+kill)
		require.NoError(t, r.At(p.URL).Announce(t.Context(), address))
		time.Sleep(time.Duration(kill) * 150 * time.Millisecond) // another point of the push each time
		if kill == 4 {
			pushes, err := c.ZonePushes(t.Context(), quay)
			require.NoError(t, err)
			require.Equal(t, address, pushes[0].Wanted, "what is meant is shown while it waits")
		}
		p.Kill()
		p = testbed.Launch(t, database)
		c, err = client.New(p.URL, key)
		require.NoError(t, err)
		way.mode.Store("fair")
		began := time.Now()
		require.Eventually(t, there(address), 30*time.Second, 20*time.Millisecond, "killed at point %d, while the primary was %s",
			kill, mode)
		longest = max(longest, time.Since(began))
	}
	t.Logf("killed %d times: everything there %s after the primary was back, at most", kills, longest.Round(10*time.Millisecond))
	pushes, err := c.PushZone(t.Context(), quay)
	require.NoError(t, err)
	require.Len(t, pushes, 3)
	require.Eventually(t, func() bool {
		list, err := c.ZonePushes(context.Background(), quay)
		return err == nil && list[0].State == contract.PushTaken
	}, 10*time.Second, 50*time.Millisecond)
}

func TestALostPacketOfAPushCostsNothing(t *testing.T) {
	t.Parallel()
	primary, way := poor(t)
	way.mode.Store("lossy") // the first packet of each push, among others
	s := start(t, nil)
	s.Record(t, "QUA-01")
	pushed(t, s.Client, way.at, "QUA-01", "ferry")
	_, err := s.Client.AddAlias(t.Context(), contract.AliasInput{Name: "tickets." + quay, Hostname: "ferry." + quay})
	require.NoError(t, err)
	require.NoError(t, s.Router(t, "QUA-01").Announce(t.Context(), "198.51.100.7"))
	_, err = s.Client.PushZone(t.Context(), quay)
	require.NoError(t, err)
	require.Eventually(t, func() bool { return testbed.Resolve(primary, "ferry."+quay) == "198.51.100.7" }, 12*time.Second,
		20*time.Millisecond)
	list, err := s.Client.ZonePushes(t.Context(), quay)
	require.NoError(t, err)
	for _, one := range list {
		require.NotContains(t, one.Detail, "NOTAUTH", "a packet that is sent again is signed again")
	}

	// Somebody changes the alias at the primary by hand: it is put right.
	way.mode.Store("fair")
	alias := func() string {
		r, _, err := new(dns.Client).Exchange(new(dns.Msg).SetQuestion("tickets."+quay+".", dns.TypeCNAME), primary)
		if err != nil || len(r.Answer) == 0 {
			return ""
		}
		return r.Answer[0].(*dns.CNAME).Target
	}
	require.Eventually(t, func() bool { return alias() == "ferry."+quay+"." }, 12*time.Second, 20*time.Millisecond)
	m := new(dns.Msg).SetUpdate(quay + ".")
	m.RemoveRRset([]dns.RR{&dns.CNAME{Hdr: dns.RR_Header{Name: "tickets." + quay + ".", Rrtype: dns.TypeCNAME, Class: dns.ClassINET}}})
	other, err := dns.NewRR("tickets." + quay + ". 60 IN CNAME elsewhere.example.")
	require.NoError(t, err)
	m.Insert([]dns.RR{other})
	m.SetTsig(pushKey+".", dns.HmacSHA256, 300, time.Now().Unix())
	hand := dns.Client{TsigSecret: map[string]string{pushKey + ".": words}}
	reply, _, err := hand.Exchange(m, primary)
	require.NoError(t, err)
	require.Equal(t, dns.RcodeSuccess, reply.Rcode)
	require.Equal(t, "elsewhere.example.", alias())
	require.Eventually(t, func() bool { return alias() == "ferry."+quay+"." }, 20*time.Second, 50*time.Millisecond)
}

// What a server that is killed has asked of the database may be carried out after another one has begun to write: then a job runs by the
// record, and nobody does it.
func TestAJobThatNobodyDoesIsDone(t *testing.T) {
	t.Parallel()
	primary, way := poor(t)
	database := testbed.Database(t)
	s := start(t, func(o *options) { o.Database = database })
	s.Record(t, "QUA-01")
	pushed(t, s.Client, way.at, "QUA-01", "ferry")
	r := s.Router(t, "QUA-01")
	require.NoError(t, r.Announce(t.Context(), "198.51.100.1"))
	_, err := s.Client.PushZone(t.Context(), quay)
	require.NoError(t, err)
	there := func(address string) func() bool {
		return func() bool { return testbed.Resolve(primary, "ferry."+quay) == address }
	}
	soon(t, 20*time.Second, "pushed", there("198.51.100.1"))
	way.mode.Store("away")
	require.NoError(t, r.Announce(t.Context(), "198.51.100.2"))
	soon(t, 30*time.Second, "its job waits for the next try", func() bool {
		query(t, database, `UPDATE river_job SET state = 'running', attempted_by = '{gone}', attempted_at = now()
			WHERE state IN ('retryable', 'scheduled', 'available') AND kind LIKE '%push%'`)
		return one[int](t, database, `SELECT count(*) FROM river_job WHERE state = 'running' AND attempted_by = '{gone}'`) > 0
	})
	way.mode.Store("fair")
	soon(t, 20*time.Second, "somebody does it", there("198.51.100.2"))
}
