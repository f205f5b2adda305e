package causes

import (
	"os"
	"regexp"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestTheTableIsSound(t *testing.T) {
	slugs := map[Slug]bool{}
	for _, c := range Table() {
		require.False(t, slugs[c.Slug], "%s stands there twice", c.Slug)
		slugs[c.Slug] = true
		require.Regexp(t, `^[a-z0-9]+(-[a-z0-9]+)*$`, string(c.Slug))
		require.NotEmpty(t, c.So, c.Slug)
		require.NotEmpty(t, c.Next, c.Slug)
		require.NotEmpty(t, c.Actor.Words(), c.Slug)
		require.GreaterOrEqual(t, c.Hop.place(), 0, c.Slug)
		require.Equal(t, c.Ranked(), len(c.Predicts) > 0, "%s: what is ranked predicts something, and nothing else does", c.Slug)
		for _, text := range []string{c.So, c.Next} {
			for _, p := range place.FindAllStringSubmatch(text, -1) {
				require.True(t, Places()[p[1]], "%s speaks of {%s}, which nobody fills", c.Slug, p[1])
			}
		}
		for s, set := range c.Predicts {
			for _, v := range set.Values() {
				require.NotEmpty(t, s.Words(v), "%s predicts a value that %s does not have", c.Slug, s)
			}
		}
	}
	require.GreaterOrEqual(t, len(slugs), 45)
}

func TestEverySignHasWordsForItsValues(t *testing.T) {
	for _, s := range Signs() {
		require.NotEmpty(t, s.String())
		require.Empty(t, s.Words(Unseen))
		require.Empty(t, s.Words(Value(s.Values()+1)))
		sum := 0.0
		for v := 1; v <= s.Values(); v++ {
			sum += s.chance(Value(v), s.all())
		}
		require.InDelta(t, 1, sum, 1e-9, s.String())
		if s.Check() != "" {
			require.NotEmpty(t, s.Check().Ask(), "%s comes from a check that nobody can ask for", s)
		}
	}
}

// seen makes what is known of one service of a site that is alive.
func seen(more map[Sign]Value) (s Seen) {
	s[Outside], s[Way], s[Alive], s[Held], s[Vantages], s[Siblings], s[Others], s[Port] = Silent, ByForward, Heard, No, All, Unseen, Work,
		Ordinary
	for sign, v := range more {
		s[sign] = v
	}
	return s
}

func TestRank(t *testing.T) {
	for name, c := range map[string]struct {
		seen map[Sign]Value
		want Slug
		and  Slug
		sure Sure
	}{
		"nothing known but silence": {nil, "forward-missing", "", Open},
		"passed on, and open inside": {map[Sign]Value{Reach: PassedOn, Inside: InOpen, Device: There}, "device-lan-only", "",
			Open},
		"passed on, open inside, and listed": {map[Sign]Value{Reach: PassedOn, Inside: InOpen, Device: There, Mapping: Listed},
			"device-lan-only", "", Likely},
		"passed on, and silent inside": {map[Sign]Value{Reach: PassedOn, Inside: InSilent, Device: There}, "device-firewall", "",
			Open},
		"nobody at the address":          {map[Sign]Value{Outside: HostBySite}, "device-off", "", Open},
		"nobody there, seen from inside": {map[Sign]Value{Outside: HostBySite, Device: Away, Asleep: No}, "device-off", "", Certain},
		"nobody there, as every night": {map[Sign]Value{Outside: HostBySite, Device: Away, Asleep: Yes}, "device-asleep", "",
			Certain},
		"it ends at the router, open inside": {map[Sign]Value{Reach: StoppedRouter, Inside: InOpen, Device: There, NAT: Direct},
			"forward-missing", "", Open},
		"an asked-for mapping works": {map[Sign]Value{Inside: InOpen, Device: There, Asked: Arrived}, "forward-missing", "",
			Certain},
		"an asked-for mapping does not": {map[Sign]Value{Reach: StoppedRouter, Inside: InOpen, Device: There, Asked: Lost, NAT: Direct},
			"port-blocked", "", Certain},
		"an asked-for mapping does not, and nobody knows how far": {map[Sign]Value{Inside: InOpen, Device: There, Asked: Lost,
			NAT: Direct}, "port-blocked", "", Open},
		"refused from inside too": {map[Sign]Value{Outside: Refused, Inside: InRefused, Device: There}, "service-stopped", "",
			Certain},
		"refused by the router": {map[Sign]Value{Outside: Refused, Reach: RefusedRouter, Inside: InOpen, Device: There},
			"router-refuses", "", Certain},
		"refused by the modem": {map[Sign]Value{Outside: Refused, Reach: RefusedModem, Inside: InOpen, Device: There,
			NAT: Double}, "modem-refuses", "", Certain},
		"it ends at the modem": {map[Sign]Value{Reach: StoppedModem, Inside: InOpen, Device: There, NAT: Double},
			"modem-forward-missing", "", Open},
		"opened, and hung inside too": {map[Sign]Value{Outside: Hung, Reach: AnsweredBehind, Inside: InHung, Device: There},
			"service-hung", "", Certain},
		"another device's key": {map[Sign]Value{Outside: Stranger, Shown: Sibling, Inside: InOpen, Device: There},
			"forward-astray", "", Open},
		"another key, inside too": {map[Sign]Value{Outside: Stranger, Shown: Unknown, Inside: InOther, Device: There},
			"service-changed", "", Certain},
		"another machine has the address": {map[Sign]Value{Outside: Stranger, Shown: Unknown, Device: AwayTaken}, "address-taken", "",
			Certain},
		"the device has another address": {map[Sign]Value{Device: Drifted}, "device-drifted", "", Certain},
		"some vantage points reach it":   {map[Sign]Value{Vantages: Some}, "one-side-only", "", Certain},
		"no forward, and the service stopped": {map[Sign]Value{Reach: StoppedRouter, Inside: InRefused, Device: There, NAT: Direct},
			"forward-missing", "service-stopped", Likely},
		"no forward, and the device is off": {map[Sign]Value{Reach: StoppedRouter, Device: Away, Asleep: No, NAT: Direct},
			"forward-missing", "device-off", Likely},
		"a new address is not followed": {map[Sign]Value{Held: Yes}, "address-held", "", Certain},
		"a pinhole to an old address": {map[Sign]Value{Way: ByPinhole, Reach: PassedOn, Inside: InOpen, Device: There,
			Renewed: Yes}, "pinhole-stale", "", Likely},
		"the other family works": {map[Sign]Value{Way: ByPinhole, Outside: NetByWay, Family: OtherWorks, Others: Fail,
			Renewed: No}, "family-lost", "", Likely},
	} {
		t.Run(name, func(t *testing.T) {
			e := Rank(seen(c.seen))
			require.Equal(t, c.want, e.Best().Slug, "%v", e.Ranking[:4])
			require.Equal(t, c.and, e.Best().And)
			require.Equal(t, c.sure, e.Sure, "%v", e.Ranking[:4])
			require.False(t, e.Best().Out)
			if e.Sure == Open {
				require.Greater(t, len(e.Between()), 1)
			} else {
				require.Empty(t, e.Between())
			}
		})
	}
}

func TestContradictionIsNotExplainedAway(t *testing.T) {
	e := Rank(seen(map[Sign]Value{Device: There, Inside: InOpen, Asked: Arrived, Reach: PassedOn, Mapping: Listed}))
	require.True(t, e.Best().Out, "a mapping that works where the port is mapped already: nothing predicts that")
}

func TestOneCauseForManyServices(t *testing.T) {
	member := func(device string, more map[Sign]Value) Member {
		return Member{Device: device, Seen: seen(more)}
	}
	dark := map[Sign]Value{Alive: Quiet, Siblings: Fail, Others: Fail, Together: Yes}
	list := Explain([]Member{member("recorder", dark), member("recorder", dark), member("desk", dark)})
	require.Len(t, list, 1)
	require.Equal(t, Slug("site-dark"), list[0].Best().Slug)
	require.Len(t, list[0].Members, 3)

	off := map[Sign]Value{Siblings: Fail, Device: Away, Asleep: No, Together: Yes}
	stopped := map[Sign]Value{Outside: Refused, Inside: InRefused, Device: There}
	list = Explain([]Member{member("recorder", off), member("recorder", off), member("desk", stopped)})
	require.Len(t, list, 2)
	require.Equal(t, Slug("device-off"), list[0].Best().Slug)
	require.Equal(t, Slug("service-stopped"), list[1].Best().Slug)

	// What a wide cause leaves is explained by itself.
	gone := map[Sign]Value{Siblings: Fail, Others: Fail, Together: Yes, Inside: InOpen, Device: There, Reach: StoppedRouter, NAT: Direct}
	off[Others], off[Siblings], off[Outside] = Fail, Unseen, HostBySite
	list = Explain([]Member{member("recorder", gone), member("desk", gone), member("yard", off)})
	require.Len(t, list, 2)
	require.Equal(t, Slug("router-reset"), list[0].Best().Slug)
	require.Equal(t, []int{0, 1}, list[0].Members)
	require.Equal(t, Slug("device-off"), list[1].Best().Slug)
	require.Empty(t, Explain(nil))

	// Two forwards that are missing are two faults: each has its own line to type.
	missing := map[Sign]Value{Siblings: Fail, Inside: InOpen, Device: There, Reach: StoppedRouter, NAT: Direct, Together: No}
	list = Explain([]Member{member("recorder", missing), member("recorder", missing)})
	require.Len(t, list, 2)
	for _, e := range list {
		require.Equal(t, Slug("forward-missing"), e.Best().Slug)
	}
}

func TestFill(t *testing.T) {
	require.Equal(t, "recorder is at 192.168.7.33 now", Fill("{device} is at {found} now", map[string]string{"device": "recorder",
		"found": "192.168.7.33"}))
	require.Equal(t, "The device is at another LAN address now", Fill("{device} is at {found} now", nil))
	for _, c := range Table() {
		require.NotRegexp(t, regexp.MustCompile(`[{}]`), Fill(c.So+c.Next, nil), c.Slug)
	}
}

func TestThePagesAreWhatTheTableSays(t *testing.T) {
	for _, c := range Table() {
		page, err := os.ReadFile("../../../docs/causes/" + string(c.Slug) + ".md")
		require.NoError(t, err, "run make causes")
		require.Equal(t, Page(c), string(page), "%s: run make causes", c.Slug)
	}
	index, err := os.ReadFile("../../../docs/causes/README.md")
	require.NoError(t, err)
	require.Equal(t, Index(), string(index), "run make causes")
	pages, err := os.ReadDir("../../../docs/causes")
	require.NoError(t, err)
	require.Len(t, pages, len(Table())+1, "a page of a cause that is gone")
}
