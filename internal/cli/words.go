package cli

import (
	"strconv"
	"time"

	"inkpost.example/inkpost/internal/core/diagnose"
	"inkpost.example/inkpost/internal/core/pace"
)

// ago says how long ago something was, in the unit a person would say.
func ago(t time.Time) string {
	if t.IsZero() {
		return "never"
	}
	return pace.Length(time.Since(t)) + " ago"
}

func millis(ms float64) string { return pace.Length(time.Duration(ms * float64(time.Millisecond))) }

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

// tones are the colours of verdicts.
var tones = map[diagnose.Verdict]tone{diagnose.Proven: proven, diagnose.Unsettled: unsettled, diagnose.Broken: wrong,
	diagnose.Unproven: faded}
