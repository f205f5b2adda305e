package cli

import (
	"fmt"
	"strconv"
	"time"

	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/probe"
)

// ago says how long ago something was, in the unit a person would say.
func ago(t time.Time) string {
	if t.IsZero() {
		return "never"
	}
	return length(time.Since(t)) + " ago"
}

func length(d time.Duration) string {
	switch {
	case d < time.Millisecond:
		return fmt.Sprintf("%.1f ms", max(0, float64(d.Microseconds())/1000))
	case d < time.Second:
		return fmt.Sprintf("%d ms", d.Milliseconds())
	case d < 10*time.Second:
		return fmt.Sprintf("%.1f s", d.Seconds())
	case d < 2*time.Minute:
		return fmt.Sprintf("%.0f s", d.Seconds())
	case d < 2*time.Hour:
		return fmt.Sprintf("%.0f min", d.Minutes())
	case d < 48*time.Hour:
		return fmt.Sprintf("%.0f h", d.Hours())
	}
	return fmt.Sprintf("%.0f days", d.Hours()/24)
}

func millis(ms float64) string { return length(time.Duration(ms * float64(time.Millisecond))) }

func stamp(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return t.UTC().Format(time.RFC3339Nano)
}

func yes(b bool) string {
	if b {
		return "yes"
	}
	return "no"
}

func orDash(s string) string {
	if s == "" {
		return "-"
	}
	return s
}

func count(n int) string { return strconv.Itoa(n) }

func stateTone(asExpected bool, s probe.State) tone {
	switch {
	case asExpected:
		return proven
	case s == probe.StateUnknown:
		return unsettled
	}
	return wrong
}

func nameTone(s names.State) tone {
	switch s {
	case names.StatePointed:
		return proven
	case names.StateSettling, names.StateIdle:
		return unsettled
	}
	return wrong
}
