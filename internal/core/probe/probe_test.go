package probe

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestFromSignal(t *testing.T) {
	require.Equal(t, []Outcome{Opened, Refused, Silent, Unroutable, Skipped},
		[]Outcome{FromSignal(SignalConnected), FromSignal(SignalReset), FromSignal(SignalTimeout), FromSignal(SignalNoRoute), FromSignal(SignalLocal)})
}

func TestVerdict(t *testing.T) {
	v := func(o Outcome, inRow int) View { return View{Outcome: o, InRow: inRow} }
	for name, c := range map[string]struct {
		expected Expected
		before   State
		views    []View
		want     State
	}{
		"never probed":                        {ExpectReachable, "", nil, StateUnknown},
		"skipped says nothing":                {ExpectReachable, StateReachable, []View{v(Skipped, 9)}, StateUnknown},
		"one answer is enough":                {ExpectReachable, StateUnreachable, []View{v(Opened, 1)}, StateReachable},
		"one failure is not":                  {ExpectReachable, StateReachable, []View{v(Silent, 1)}, StateReachable},
		"two are not":                         {ExpectReachable, StateReachable, []View{v(Silent, 2)}, StateReachable},
		"three are":                           {ExpectReachable, StateReachable, []View{v(Refused, 3)}, StateUnreachable},
		"first failures from unknown":         {ExpectReachable, StateUnknown, []View{v(Silent, 1)}, StateUnknown},
		"one side only":                       {ExpectReachable, StateReachable, []View{v(Opened, 5), v(Silent, 3)}, StateImpaired},
		"one side unconfirmed":                {ExpectReachable, StateReachable, []View{v(Opened, 5), v(Silent, 1)}, StateReachable},
		"one down, the other not confirmed":   {ExpectReachable, StateReachable, []View{v(Silent, 3), v(Silent, 1)}, StateReachable},
		"a stranger is no answer":             {ExpectReachable, StateReachable, []View{v(Stranger, 3)}, StateUnreachable},
		"closed and closed":                   {ExpectClosed, StateUnknown, []View{v(Silent, 1)}, StateUnreachable},
		"closed yet open, once":               {ExpectClosed, StateUnreachable, []View{v(Opened, 1)}, StateUnreachable},
		"closed yet open, confirmed":          {ExpectClosed, StateUnreachable, []View{v(Opened, 3)}, StateExposed},
		"closed yet open from one side":       {ExpectClosed, StateUnreachable, []View{v(Opened, 3), v(Silent, 9)}, StateExposed},
		"a skipped view beside a good answer": {ExpectReachable, StateReachable, []View{v(Skipped, 3), v(Opened, 1)}, StateReachable},
	} {
		require.Equal(t, c.want, Verdict(c.expected, c.before, c.views), name)
	}
}

func TestAsExpectedAndMeaning(t *testing.T) {
	require.True(t, AsExpected(ExpectReachable, StateReachable))
	require.False(t, AsExpected(ExpectReachable, StateImpaired))
	require.True(t, AsExpected(ExpectClosed, StateUnreachable))
	require.False(t, AsExpected(ExpectClosed, StateUnknown))
	require.True(t, SameMeaning(ExpectReachable, Silent, Refused))
	require.False(t, SameMeaning(ExpectReachable, Opened, Refused))
	require.True(t, SameMeaning(ExpectClosed, Opened, Stranger))
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
