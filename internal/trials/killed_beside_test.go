package trials_test

import (
	"sync"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/testbed"
)

// others are name servers beside ours, while ours are killed: a secondary of the zone, and the primary of another zone that is pushed to.
type others struct {
	// secondary is Knot: NSD answers from two processes, an older and a newer one, while it takes a change over.
	secondary, primary *testbed.Secondary
	ours, ferry        string // names of one site each

	mu     sync.Mutex
	looks  int      // at the secondary, while nothing changed there
	halves []string // what was wrong at one
	back   []string // serials that went back
}

// besides sets them up, and has the secondary watched until the test ends. ours is a name of the zone that has another below it.
func besides(t *testing.T, s *testbed.Service, ports [2]int, ours, site string) *others {
	t.Helper()
	_, err := s.Client.EditHostname(t.Context(), ours, client.Fields{"extras": []string{"www"}})
	require.NoError(t, err)
	key, err := s.Client.AddSigningKey(t.Context(), contract.SigningKeyInput{Name: "transfer.saltmarsh.example"})
	require.NoError(t, err)
	o := &others{ours: ours, ferry: "ferry." + quay}
	o.secondary = testbed.StartKnot(t, testbed.Secondary{Zone: zone, Primary: ports[0], Also: ports[1], Key: key.Name, Secret: key.Secret,
		Listen: testbed.FreePort(t)})
	_, err = s.Client.EditZone(t.Context(), zone, client.Fields{"transfer_key": key.Name, "notify": []string{o.secondary.Addr()}})
	require.NoError(t, err)
	o.primary = testbed.StartKnotPrimary(t, testbed.Primary{Zone: quay, Key: pushKey, Secret: words, Listen: testbed.FreePort(t)})
	pushed(t, s.Client, o.primary.Addr(), site, "ferry")
	_, err = s.Client.PushZone(t.Context(), quay)
	require.NoError(t, err)
	end := make(chan struct{})
	var watching sync.WaitGroup
	t.Cleanup(func() { close(end); watching.Wait() })
	watching.Go(func() {
		serial := uint32(0)
		for {
			select {
			case <-end:
				return
			case <-time.After(10 * time.Millisecond):
			}
			was := serialOf(o.secondary.Addr())
			name, below := testbed.Resolve(o.secondary.Addr(), o.ours), testbed.Resolve(o.secondary.Addr(), "www."+o.ours)
			is := serialOf(o.secondary.Addr())
			o.mu.Lock()
			if was == is && is != 0 && name != "" {
				if o.looks++; name != below {
					o.halves = append(o.halves, name+" and "+below)
				}
			}
			if is != 0 && serial != 0 && names.SerialAfter(serial, is) {
				o.back = append(o.back, time.Now().String())
			}
			if is != 0 {
				serial = is
			}
			o.mu.Unlock()
		}
	})
	return o
}

// serialOf asks for the serial of the zone; 0 for none.
func serialOf(server string) uint32 {
	c := dns.Client{Timeout: time.Second}
	r, _, err := c.Exchange(new(dns.Msg).SetQuestion(zone+".", dns.TypeSOA), server)
	if err != nil || len(r.Answer) == 0 {
		return 0
	}
	soa, ok := r.Answer[0].(*dns.SOA)
	if !ok {
		return 0
	}
	return soa.Serial
}

// have waits until both have what ours answers: no more, no less.
func (o *others) have(t *testing.T, ours string, name func(int) string, n int) {
	t.Helper()
	soon(t, 20*time.Second, "the secondary has what ours answers", func() bool {
		for i := range n {
			if testbed.Resolve(o.secondary.Addr(), name(i)) != testbed.Resolve(ours, name(i)) {
				return false
			}
		}
		return serialOf(o.secondary.Addr()) == serialOf(ours)
	})
	soon(t, 30*time.Second, "the primary was pushed to", func() bool {
		return testbed.Resolve(o.primary.Addr(), o.ferry) == testbed.Resolve(ours, name(1))
	})
}

// were checks how it was all the while.
func (o *others) were(t *testing.T) {
	t.Helper()
	o.mu.Lock()
	defer o.mu.Unlock()
	require.Greater(t, o.looks, 50)
	require.Empty(t, o.halves, "a change is there whole or not at all")
	require.Empty(t, o.back, "no serial goes back")
}
