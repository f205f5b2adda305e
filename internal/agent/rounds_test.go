package agent

import (
	"context"
	"log/slog"
	"net/netip"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/wan"
)

func idle() *runner {
	return &runner{log: slog.New(slog.DiscardHandler), news: news{wake: make(chan struct{}, 1)}}
}

var (
	kernel = reason{words: "routes changed", by: wan.SourceInterface}
	notice = reason{words: "another address", by: wan.SourceGateway, urgent: true}
	told   = reason{words: "a slow source has answered", known: true}
)

func TestRoundsHaveAFloorWhateverTheReason(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		r := idle()
		require.Equal(t, kernel, r.allowed(kernel), "nothing was asked yet")
		began := time.Now()
		r.round = began
		require.Equal(t, reason{}, r.allowed(kernel), "a cheap check is made, and the round waits")
		require.Equal(t, told, r.allowed(told), "what is here already asks nobody, and does not wait")
		require.Equal(t, reason{}, r.allowed(reason{cheap: true, words: "the server asks"}))
		require.Equal(t, kernel, r.later, "and what waits goes on waiting")

		// A router that echoes every question: as many rounds as there are floors, and no more.
		rounds := 0
		for time.Since(began) < time.Minute {
			r.look(kernel)
			if why := r.allowed(r.nextReason(t.Context(), time.Second)); why != (reason{}) {
				rounds++
				r.round = time.Now()
			}
			time.Sleep(50 * time.Millisecond)
		}
		require.InDelta(t, 6, rounds, 1)

		r.later, r.round = reason{}, time.Now()
		require.Equal(t, reason{}, r.allowed(notice), "even another address has one")
		time.Sleep(urgentFloor)
		require.Equal(t, notice, r.allowed(reason{}))
	})
}

func TestNewsIsNotLostWhileTheLinkIsLookedAt(t *testing.T) {
	r := idle()
	r.look(kernel)
	r.look(notice)
	r.look(told)
	why := r.nextReason(t.Context(), time.Hour)
	require.Equal(t, notice.words, why.words, "the urgent one counts")
	require.Equal(t, wan.SourceGateway, why.by)
	require.True(t, why.urgent)
	require.False(t, why.known, "not all of it is here already")
	require.Equal(t, reason{}, r.news.take(), "once")
}

func TestTwoLinksTellEachOtherWhileBothAreLookedAt(t *testing.T) {
	main, backup := idle(), idle()
	main.state.Link, backup.state.Link = "main", "backup"
	f := &fleet{runners: []*runner{main, backup}, down: map[string]bool{}}
	var wg sync.WaitGroup
	for _, r := range f.runners {
		wg.Go(func() {
			for i := range 200 {
				f.set(r, i%2 == 0)
				f.poke(kernel)
				_ = f.downed()
				r.nextReason(t.Context(), 0)
			}
		})
	}
	wg.Wait()
	backup.news.take() // what came last is left over
	f.set(main, true)
	require.Equal(t, []string{"main"}, f.downed())
	require.Contains(t, backup.news.take().words, "gets nothing through")
}

func TestWaitingConnectionsAreLeftWhenTheAddressChanges(t *testing.T) {
	r := idle()
	patient, done := r.lost.wait(t.Context())
	defer done()
	r.afresh()
	require.ErrorIs(t, patient.Err(), context.Canceled)
}

func neighbour(address, mac string, age time.Duration) Neighbour {
	return Neighbour{Address: netip.MustParseAddr(address), MAC: mac, Age: age}
}

const (
	recorderMAC = "02:00:5e:07:00:01"
	otherMAC    = "02:00:5e:99:00:01"
)

func TestWhereADeviceIsFollowsTheNewestAnswer(t *testing.T) {
	at := netip.MustParseAddr("192.168.7.20")
	other := netip.MustParseAddr("192.168.7.33")
	for name, c := range map[string]struct {
		table []Neighbour
		want  netip.Addr
	}{
		"nobody":             {nil, netip.Addr{}},
		"where it should be": {[]Neighbour{neighbour("192.168.7.20", recorderMAC, 0)}, netip.Addr{}},
		"elsewhere":          {[]Neighbour{neighbour("192.168.7.33", recorderMAC, 0)}, other},
		"it was there, and is here": {[]Neighbour{neighbour("192.168.7.20", recorderMAC, 20*time.Second),
			neighbour("192.168.7.33", recorderMAC, time.Second)}, other},
		"it came back": {[]Neighbour{neighbour("192.168.7.20", recorderMAC, time.Second),
			neighbour("192.168.7.33", recorderMAC, 20*time.Second)}, netip.Addr{}},
		"nobody has asked it again":   {[]Neighbour{{Address: other, MAC: recorderMAC, Before: true}}, netip.Addr{}},
		"another machine is there":    {[]Neighbour{neighbour("192.168.7.20", otherMAC, 0)}, netip.Addr{}},
		"its link-local address only": {[]Neighbour{neighbour("169.254.3.3", recorderMAC, 0)}, netip.Addr{}},
	} {
		require.Equal(t, c.want, whereIs(c.table, recorderMAC, at), name)
	}
	item := contract.WatchedDevice{Device: "recorder", MAC: recorderMAC, Address: "192.168.7.20"}
	var s contract.DeviceReport
	addNeighbours(&s, item, []Neighbour{neighbour("192.168.7.20", otherMAC, 0)})
	require.Equal(t, otherMAC, s.MAC, "who has its address is told")
	require.False(t, s.Present)
}

func TestASearchStaysInsideItsBudget(t *testing.T) {
	prefix := netip.MustParsePrefix
	item := func(address string) []contract.WatchedDevice {
		return []contract.WatchedDevice{{MAC: recorderMAC, Address: address}}
	}
	for name, c := range map[string]struct {
		prefixes []netip.Prefix
		at       string
		count    int
		has      string
		hasNot   string
	}{
		"a small LAN":                  {[]netip.Prefix{prefix("192.168.7.0/24")}, "192.168.7.20", 254, "192.168.7.254", "192.168.7.255"},
		"a large one, around the spot": {[]netip.Prefix{prefix("10.0.0.0/8")}, "10.9.6.20", 1022, "10.9.7.254", "10.9.8.1"},
		"one of two": {[]netip.Prefix{prefix("192.168.7.0/24"), prefix("192.168.9.0/24")}, "192.168.9.20", 254,
			"192.168.9.1", "192.168.7.1"},
		"none of ours": {[]netip.Prefix{prefix("192.168.7.0/24"), prefix("2001:db8:7::/64")}, "192.168.1.20", 254,
			"192.168.7.1", "192.168.1.20"},
		"no LAN at all": {nil, "192.168.7.20", 0, "", ""},
	} {
		got := targets(c.prefixes, item(c.at))
		require.Len(t, got, c.count, name)
		if c.count > 0 {
			require.Contains(t, got, netip.MustParseAddr(c.has), name)
			require.NotContains(t, got, netip.MustParseAddr(c.hasNot), name)
		}
	}
	synctest.Test(t, func(t *testing.T) {
		f := finder{searched: map[string]time.Time{}, there: map[string]bool{}}
		list := item("192.168.7.20")
		away := []contract.DeviceReport{{Device: "recorder"}}
		require.Len(t, f.missing(list, away), 1)
		meanwhile := []contract.DeviceReport{{Device: "recorder"}}
		require.Empty(t, f.missing(list, meanwhile), "one search at a time")
		require.True(t, meanwhile[0].Unsure, "while it is searched for, nothing is certain")
		f.done()
		require.Empty(t, f.missing(list, away), "it was searched for just now")
		time.Sleep(searchAgain)
		require.Empty(t, f.missing(list, []contract.DeviceReport{{Present: true}}), "it is where it should be")
		require.Empty(t, f.missing(list, []contract.DeviceReport{{Present: true, Found: "192.168.7.33"}}), "it is known where it is")
		require.Len(t, f.missing(list, away), 1)
		f.done()
		require.Empty(t, f.missing(list, []contract.DeviceReport{{Device: "recorder", Present: true}}))
		unsure := []contract.DeviceReport{{Device: "recorder"}}
		require.Empty(t, f.missing(list, unsure), "a LAN is not searched again and again")
		require.True(t, unsure[0].Unsure, "where it is now is not known")
		time.Sleep(searchSoon)
		require.Len(t, f.missing(list, away), 1, "it was there since the last search")
		f.done()
		l := &quietLAN{prefixes: []netip.Prefix{prefix("192.168.7.0/24")}, appears: 100}
		began := time.Now()
		search(t.Context(), l, list)
		require.Equal(t, 2*time.Second, time.Since(began), "it ends when the device is found")
		require.Equal(t, 120, l.asked)
		require.LessOrEqual(t, l.most, searchRate, "so many a second")
	})
}

// quietLAN is a LAN on which a device answers after so many questions.
type quietLAN struct {
	SystemLAN
	prefixes []netip.Prefix
	asked    int
	most     int
	appears  int
}

func (l *quietLAN) Prefixes() []netip.Prefix { return l.prefixes }
func (l *quietLAN) AskAll(context.Context)   {}
func (l *quietLAN) Ask(_ context.Context, list []netip.Addr) {
	l.asked += len(list)
	l.most = max(l.most, len(list))
}
func (l *quietLAN) Neighbours(context.Context) ([]Neighbour, error) {
	if l.asked < l.appears {
		return nil, nil
	}
	return []Neighbour{neighbour("192.168.7.99", recorderMAC, 0)}, nil
}
