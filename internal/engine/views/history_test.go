package views

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/diagnose"
	"inkpost.example/inkpost/internal/core/ledger"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
)

func TestASpanIsJudgedByWhatWasExpectedThen(t *testing.T) {
	noon := time.Date(2026, 3, 14, 12, 0, 0, 0, time.UTC)
	s := site.Service{Kind: probe.KindTCP, Expected: probe.ExpectReachable, OpenUntil: noon, Interval: 60}
	spans := []ledger.Span{{Outcome: probe.Opened, Until: noon.Add(-time.Hour)}, {Outcome: probe.Refused, Until: noon.Add(-time.Minute)},
		{Outcome: probe.Opened, Until: noon.Add(time.Minute)}, {Outcome: probe.Refused, Until: noon.Add(time.Hour)},
		{Outcome: probe.Skipped, Until: noon.Add(2 * time.Hour)}}
	var got []diagnose.Verdict
	for _, one := range judged(s, spans) {
		got = append(got, one.Verdict)
	}
	require.Equal(t, []diagnose.Verdict{diagnose.Proven, diagnose.Broken, diagnose.Broken, diagnose.Proven, diagnose.Unproven}, got)
}
