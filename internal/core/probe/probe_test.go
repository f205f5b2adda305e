package probe

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func TestFromSignal(t *testing.T) {
	require.Equal(t, []Outcome{Opened, Refused, Silent, Unroutable, Skipped},
		[]Outcome{FromSignal(SignalConnected), FromSignal(SignalReset), FromSignal(SignalTimeout), FromSignal(SignalNoRoute),
			FromSignal(SignalLocal)})
}

var now = time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)

func TestVerdict(t *testing.T) {
	// A view whose results have come for two minutes, the newest now.
	v := func(o Outcome, inRow int) View {
		return View{Outcome: o, InRow: inRow, Since: now.Add(-2 * time.Minute), At: now}
	}
	short := func(o Outcome) View { return View{Outcome: o, InRow: 9, Since: now.Add(-5 * time.Second), At: now} }
	half := func(o Outcome) View { return View{Outcome: o, InRow: 9, Since: now.Add(-40 * time.Second), At: now} }
	old := func(o Outcome) View {
		return View{Outcome: o, InRow: 9, Since: now.Add(-time.Hour), At: now.Add(-30 * time.Minute)}
	}
	reach, shut, mute := Rule{Sustain: 30 * time.Second, Stale: 5 * time.Minute},
		Rule{Expected: ExpectClosed, Sustain: 30 * time.Second}, Rule{Mute: true}
	for name, c := range map[string]struct {
		rule   Rule
		before State
		views  []View
		want   State
	}{
		"never probed":                        {reach, "", nil, StateUnknown},
		"skipped says nothing":                {reach, StateReachable, []View{v(Skipped, 9)}, StateUnknown},
		"one answer is enough":                {reach, StateUnreachable, []View{v(Opened, 1)}, StateReachable},
		"one failure is not":                  {reach, StateReachable, []View{v(Silent, 1)}, StateReachable},
		"two are not":                         {reach, StateReachable, []View{v(Silent, 2)}, StateReachable},
		"three are":                           {reach, StateReachable, []View{v(Refused, 3)}, StateUnreachable},
		"a hiccup is not":                     {reach, StateReachable, []View{short(Silent)}, StateReachable},
		"first failures from unknown":         {reach, StateUnknown, []View{v(Silent, 1)}, StateUnknown},
		"one side of two":                     {reach, StateReachable, []View{v(Opened, 5), v(Silent, 3)}, StateImpaired},
		"one side of two, not for long":       {reach, StateReachable, []View{v(Opened, 5), half(Silent)}, StateReachable},
		"all sides for half as long":          {reach, StateReachable, []View{half(Silent), half(Silent)}, StateUnreachable},
		"one side unconfirmed":                {reach, StateReachable, []View{v(Opened, 5), v(Silent, 1)}, StateReachable},
		"one of three is on its own":          {reach, StateReachable, []View{v(Opened, 5), v(Silent, 9), v(Opened, 5)}, StateReachable},
		"two of three":                        {reach, StateReachable, []View{v(Opened, 5), v(Silent, 9), v(Refused, 5)}, StateImpaired},
		"one down, the other not confirmed":   {reach, StateReachable, []View{v(Silent, 3), v(Silent, 1)}, StateReachable},
		"most down, one not confirmed":        {reach, StateReachable, []View{v(Silent, 3), v(Silent, 3), v(Silent, 1)}, StateUnreachable},
		"a view from long ago":                {reach, StateReachable, []View{v(Silent, 3), old(Opened)}, StateUnreachable},
		"only views from long ago":            {reach, StateReachable, []View{old(Opened)}, StateUnknown},
		"a stranger is no answer":             {reach, StateReachable, []View{v(Stranger, 3)}, StateUnreachable},
		"silence that proves nothing":         {mute, StateReachable, []View{v(Silent, 9)}, StateUnknown},
		"a refusal proves something":          {mute, StateReachable, []View{v(Refused, 9)}, StateUnreachable},
		"closed and closed":                   {shut, StateUnknown, []View{v(Silent, 1)}, StateUnreachable},
		"closed yet open, once":               {shut, StateUnreachable, []View{v(Opened, 1)}, StateUnreachable},
		"closed yet open, confirmed":          {shut, StateUnreachable, []View{v(Opened, 3)}, StateExposed},
		"closed yet open from one side":       {shut, StateUnreachable, []View{v(Opened, 3), v(Silent, 9)}, StateExposed},
		"a stranger at a door that is closed": {shut, StateUnreachable, []View{v(Stranger, 3)}, StateExposed},
		"a skipped view beside a good answer": {reach, StateReachable, []View{v(Skipped, 3), v(Opened, 1)}, StateReachable},
	} {
		require.Equal(t, c.want, Verdict(c.rule, c.before, c.views, now), name)
	}
}

func TestARepairIsNoFailureOfOneSide(t *testing.T) {
	rule := Rule{Sustain: 5 * time.Second, Stale: 5 * time.Minute}
	down := View{Outcome: Silent, InRow: 40, Since: now.Add(-10 * time.Minute), At: now.Add(-8 * time.Second)}
	up := View{Outcome: Opened, InRow: 1, Since: now, At: now}
	require.Equal(t, StateUnreachable, Verdict(rule, StateUnreachable, []View{up, down}, now), "the other has not looked again")
	down.At, up.At, up.InRow = now.Add(14*time.Second), now.Add(14*time.Second), 9
	require.Equal(t, StateUnreachable, Verdict(rule, StateUnreachable, []View{up, down}, up.At), "not for long enough")
	down.At, up.At = now.Add(15*time.Second), now.Add(15*time.Second)
	require.Equal(t, StateImpaired, Verdict(rule, StateUnreachable, []View{up, down}, up.At), "it stays like that")
	down = View{Outcome: Opened, InRow: 1, Since: now.Add(16 * time.Second), At: now.Add(16 * time.Second)}
	require.Equal(t, StateReachable, Verdict(rule, StateImpaired, []View{up, down}, down.At))
}

func TestAFailureAtAnAddressThatMayBeGoneSettles(t *testing.T) {
	every := Tenancy{Heard: now, Patience: 18 * time.Second}
	failed := func(after, lasting time.Duration) View {
		return View{Outcome: Stranger, InRow: 5, Since: now.Add(after), At: now.Add(after + lasting)}
	}
	for name, c := range map[string]struct {
		t       Tenancy
		v       View
		settled bool
	}{
		"nobody would announce another address": {Tenancy{}, failed(time.Second, 6*time.Second), true},
		"the next check is still to come":       {every, failed(10*time.Second, 6*time.Second), false},
		"the next check did not come":           {every, failed(10*time.Second, 8*time.Second), true},
		"heard since it failed": {Tenancy{now.Add(2 * time.Second), 18 * time.Second},
			failed(time.Second, 6*time.Second), true},
		"whoever announced was silent before": {every, failed(time.Minute, 6*time.Second), true},
	} {
		r := Rule{Sustain: 5 * time.Second, Tenancy: c.t}
		require.Equal(t, c.settled, r.Settled(c.v), name)
		want := StateReachable
		if c.settled {
			want = StateUnreachable
		}
		require.Equal(t, want, Verdict(r, StateReachable, []View{c.v}, c.v.At), name)
	}
}

func TestAFailureBesideAnotherIsBelievedSooner(t *testing.T) {
	seen := View{Outcome: Silent, InRow: 2, Since: now.Add(3 * time.Second), At: now.Add(6 * time.Second)}
	for name, c := range map[string]struct {
		beside  time.Time
		settled bool
	}{
		"nobody else fails":                   {time.Time{}, false},
		"another began a moment before":       {now, true},
		"another began not long enough ago":   {now.Add(1500 * time.Millisecond), false},
		"another has failed for a long while": {now.Add(-time.Hour), false},
		"another began later":                 {now.Add(4 * time.Second), false},
	} {
		require.Equal(t, c.settled, Rule{Sustain: 5 * time.Second, Beside: c.beside}.Settled(seen), name)
	}
	seen.InRow = 1
	require.False(t, Rule{Sustain: 5 * time.Second, Beside: now}.Settled(seen), "one packet may be lost")
}

func TestRepresentativeExplainsTheState(t *testing.T) {
	good, bad := View{Outcome: Opened, At: now}, View{Outcome: Silent, At: now.Add(-time.Second)}
	require.Equal(t, bad, Representative(Rule{}, StateImpaired, []View{good, bad}))
	require.Equal(t, good, Representative(Rule{}, StateReachable, []View{bad, good}))
	require.Equal(t, bad, Representative(Rule{}, StateReachable, []View{bad}))
}

func TestAsExpectedAndMeaning(t *testing.T) {
	require.True(t, AsExpected(ExpectReachable, StateReachable))
	require.False(t, AsExpected(ExpectReachable, StateImpaired))
	require.True(t, AsExpected(ExpectClosed, StateUnreachable))
	require.False(t, AsExpected(ExpectClosed, StateUnknown))
	require.Equal(t, []Meaning{AsWanted, NotWanted, NotWanted, Nothing},
		[]Meaning{Rule{}.Meaning(Answered), Rule{}.Meaning(Garbled), Rule{}.Meaning(Silent), Rule{}.Meaning(Skipped)})
	closed := Rule{Expected: ExpectClosed}
	require.Equal(t, []Meaning{NotWanted, NotWanted, AsWanted, AsWanted},
		[]Meaning{closed.Meaning(Answered), closed.Meaning(Garbled), closed.Meaning(Silent), closed.Meaning(Unroutable)})
	v := Rule{}.Next(View{}, Silent, now)
	v = Rule{}.Next(v, Refused, now.Add(time.Second))
	require.Equal(t, View{Outcome: Refused, InRow: 2, Since: now, At: now.Add(time.Second)}, v)
	require.Equal(t, 1, Rule{}.Next(v, Opened, now).InRow)
}

func TestJudge(t *testing.T) {
	spoke := Result{Talk: TalkExpected, Fingerprint: "key a"}
	require.Equal(t, Answered, Judge(spoke, ""))
	require.Equal(t, Answered, Judge(spoke, "key a"))
	require.Equal(t, Stranger, Judge(spoke, "key b"))
	require.Equal(t, Garbled, Judge(Result{Talk: TalkOther}, "key b"))
	require.Equal(t, Opened, Judge(Result{}, ""))
	require.Equal(t, Refused, Judge(Result{Signal: SignalReset, Talk: TalkOther}, ""))
}

func TestBannerPrintLeavesOutWhatChanges(t *testing.T) {
	require.Equal(t, BannerPrint("+OK hut <1896.697170952@hut.example> ready"), BannerPrint("+OK hut  <7.8@hut.example> ready"))
	require.Equal(t, BannerPrint("220 hut at 12:30:01, session 4455667"), BannerPrint("220 hut at 09:01:59, session 1234567"))
	require.NotEqual(t, BannerPrint("gannet 1.2"), BannerPrint("gannet 1.3"))
	require.Empty(t, BannerPrint("  "))
}

func TestAVantagePointThatIsWrongItself(t *testing.T) {
	require.False(t, SharedView{Shared: 4, Failing: 4}.Unfit(false), "four services prove nothing")
	require.True(t, SharedView{Shared: 20, Failing: 5}.Unfit(false))
	require.False(t, SharedView{Shared: 100, Failing: 20}.Unfit(false))
	require.True(t, SharedView{Shared: 100, Failing: 20}.Unfit(true), "it is not over yet")
	require.False(t, SharedView{Shared: 100, Failing: 1}.Unfit(true))
	var dark LinkView[int64]
	for link := range int64(5) {
		require.False(t, dark.Blind(), "%d links prove nothing", link)
		dark = dark.With(link, false)
	}
	require.True(t, dark.Blind())
	require.True(t, dark.With(1, false).Blind(), "another service there")
	require.False(t, dark.With(1, true).With(1, false).Blind(), "one link answers: the way out works")
}

func TestOptions(t *testing.T) {
	o, err := Options{}.With("path", "/live")
	require.NoError(t, err)
	require.Equal(t, []string{"path=/live"}, o.List())
	_, err = o.With("colour", "red")
	require.ErrorContains(t, err, `option "colour" is unknown; there are path, status`)
	for kind, list := range map[Kind][]string{KindHTTP: {"path=live", "status=20", "status=400-200", "tls=first"},
		KindSSH: {"path=/"}, KindSMTP: {"tls=perhaps"},
		KindWireGuard: {"peer_key=c2hvcnQ="}, KindMQTT: {"version=4"}, KindOpenVPN: {"guarded=no"},
		KindHTTPS: {"text=" + strings.Repeat("x", 301)}} {
		for _, one := range list {
			name, value, _ := strings.Cut(one, "=")
			o, err := Options{}.With(name, value)
			require.NoError(t, err)
			field, err := o.Check(kind)
			require.Error(t, err, one)
			require.Equal(t, name, field)
		}
	}
	_, err = Options{Path: "/live", Status: "200-299", Text: "x", Certificate: "checked"}.Check(KindHTTPS)
	require.NoError(t, err)
}

func TestKinds(t *testing.T) {
	require.Equal(t, KindDNS, KindDNS.On(TCP))
	require.Equal(t, KindTCP, KindNTP.On(TCP), "NTP does not run over TCP: only the port is probed")
	require.Equal(t, KindUDP, KindSSH.On(UDP))
	require.True(t, Both.Meets(UDP) && TCP.Meets(Both) && !TCP.Meets(UDP))
	require.True(t, Mute(KindUDP, Options{}) && Mute(KindWireGuard, Options{}) && !Mute(KindWireGuard, Options{PeerKey: "k"}) &&
		!Mute(KindDNS, Options{}))
}

func TestParse(t *testing.T) {
	k, err := ParseKind("")
	require.NoError(t, err)
	require.Equal(t, KindTCP, k)
	_, err = ParseKind("smoke")
	require.ErrorContains(t, err, `kind "smoke" is unknown`)
	_, err = ParseExpected("ajar")
	require.ErrorContains(t, err, "reachable or closed")
}
