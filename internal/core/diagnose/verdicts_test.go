package diagnose_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/diagnose"
	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/wan"
)

func TestAnOutcomeIsJudgedByWhatIsExpected(t *testing.T) {
	for _, c := range []struct {
		expected probe.Expected
		mute     bool
		outcome  probe.Outcome
		want     diagnose.Verdict
	}{
		{probe.ExpectReachable, false, probe.Answered, diagnose.Proven},
		{probe.ExpectReachable, false, probe.Opened, diagnose.Proven},
		{probe.ExpectReachable, false, probe.Refused, diagnose.Broken},
		{probe.ExpectReachable, false, probe.Silent, diagnose.Broken},
		{probe.ExpectReachable, false, probe.Stranger, diagnose.Broken},
		{probe.ExpectReachable, false, probe.Garbled, diagnose.Broken},
		{probe.ExpectReachable, false, probe.Skipped, diagnose.Unproven},
		{probe.ExpectReachable, true, probe.Silent, diagnose.Unproven},
		{probe.ExpectReachable, true, probe.Answered, diagnose.Proven},
		{probe.ExpectReachable, true, probe.Refused, diagnose.Broken},
		{probe.ExpectClosed, false, probe.Refused, diagnose.Proven},
		{probe.ExpectClosed, false, probe.Silent, diagnose.Proven},
		{probe.ExpectClosed, false, probe.Opened, diagnose.Broken},
		{probe.ExpectClosed, false, probe.Answered, diagnose.Broken},
		{probe.ExpectClosed, false, probe.Stranger, diagnose.Broken},
		{probe.ExpectClosed, false, probe.Skipped, diagnose.Unproven},
	} {
		got := diagnose.OfOutcome(probe.Rule{Expected: c.expected, Mute: c.mute}, c.outcome)
		require.Equal(t, c.want, got, "%s where %s is expected (mute %v)", c.outcome, c.expected, c.mute)
	}
}

func TestAServiceIsJudgedByItsState(t *testing.T) {
	for _, c := range []struct {
		expected probe.Expected
		state    probe.State
		want     diagnose.Verdict
	}{
		{probe.ExpectReachable, probe.StateReachable, diagnose.Proven},
		{probe.ExpectReachable, probe.StateImpaired, diagnose.Broken},
		{probe.ExpectReachable, probe.StateUnreachable, diagnose.Broken},
		{probe.ExpectReachable, probe.StateUnknown, diagnose.Unsettled},
		{probe.ExpectClosed, probe.StateUnreachable, diagnose.Proven},
		{probe.ExpectClosed, probe.StateExposed, diagnose.Broken},
		{probe.ExpectClosed, probe.StateUnknown, diagnose.Unsettled},
	} {
		require.Equal(t, c.want, diagnose.OfService(c.expected, c.state), "%s where %s is expected", c.state, c.expected)
	}
}

func TestNamesAreJudgedByWhatServersAnswer(t *testing.T) {
	for state, want := range map[names.State]diagnose.Verdict{
		names.StatePointed: diagnose.Proven, names.StateSettling: diagnose.Unsettled, names.StateIdle: diagnose.Unproven,
		names.StateStale: diagnose.Broken, names.StateHeld: diagnose.Broken,
	} {
		require.Equal(t, want, diagnose.OfName(state), state)
	}
	require.Equal(t, diagnose.Unproven, diagnose.OfAlias(false, false))
	require.Equal(t, diagnose.Unsettled, diagnose.OfAlias(true, false), "a difference may be a cache that has not run out")
	require.Equal(t, diagnose.Proven, diagnose.OfAlias(true, true))
}

func TestASecondNATCanBeWorkedWithACarriersCannot(t *testing.T) {
	for nat, want := range map[wan.Verdict]diagnose.Verdict{
		wan.NATDirect: diagnose.Proven, wan.NATDouble: diagnose.Unsettled, wan.NATCarrier: diagnose.Broken,
		wan.NATUnknown: diagnose.Unproven,
	} {
		require.Equal(t, want, diagnose.OfNAT(nat), nat)
	}
}

func TestADeviceThatMovedIsNotThere(t *testing.T) {
	verdict, words := diagnose.OfDevice(true, false, "192.168.7.23")
	require.Equal(t, diagnose.Broken, verdict)
	require.Equal(t, "at 192.168.7.23, not where the record has it", words)
	verdict, words = diagnose.OfDevice(true, true, "")
	require.Equal(t, diagnose.Unsettled, verdict)
	require.Contains(t, words, "not known yet")
	verdict, _ = diagnose.OfDevice(true, false, "")
	require.Equal(t, diagnose.Proven, verdict)
	verdict, _ = diagnose.OfDevice(false, false, "")
	require.Equal(t, diagnose.Broken, verdict)
}
