package ledger_test

import (
	"fmt"
	"time"

	"inkpost.example/inkpost/internal/core/ledger"
	"inkpost.example/inkpost/internal/core/probe"
)

// Equal outcomes are one span; another outcome begins the next.
func ExampleFold() {
	at := time.Date(2026, 11, 2, 8, 0, 0, 0, time.UTC)
	var span ledger.Span
	for i, outcome := range []probe.Outcome{probe.Answered, probe.Answered, probe.Refused} {
		next, fresh := ledger.Fold(span, ledger.Result{Outcome: outcome, At: at.Add(time.Duration(i) * time.Minute)},
			ledger.Gap(time.Minute))
		if fresh && span.Count > 0 {
			fmt.Println(span.Outcome, span.Count, "probes until", span.Until.Format(time.TimeOnly))
		}
		span = next
	}
	fmt.Println(span.Outcome, span.Count, "probe so far")
	// Output:
	// answered 2 probes until 08:01:00
	// refused 1 probe so far
}
