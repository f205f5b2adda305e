package probe_test

import (
	"fmt"
	"time"

	"inkpost.example/inkpost/internal/core/probe"
)

// One vantage point that fails once flips nothing: a change for the worse has to last.
func ExampleVerdict() {
	now := time.Date(2026, 11, 2, 8, 0, 0, 0, time.UTC)
	rule := probe.Rule{Expected: probe.ExpectReachable, Sustain: 10 * time.Second}
	once := []probe.View{{Outcome: probe.Refused, InRow: 1, Since: now, At: now}}
	lasting := []probe.View{{Outcome: probe.Refused, InRow: 3, Since: now.Add(-20 * time.Second), At: now}}
	fmt.Println(probe.Verdict(rule, probe.StateReachable, once, now), probe.Verdict(rule, probe.StateReachable, lasting, now))
	// Output: reachable unreachable
}

func ExampleWords() {
	fmt.Println(probe.Words(probe.ExpectClosed, probe.StateUnreachable, false))
	// Output: closed, as wanted
}
