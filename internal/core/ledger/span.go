// Package ledger computes a service's history: spans of equal outcomes instead of one row a probe.
package ledger

import (
	"time"

	"inkpost.example/inkpost/internal/core/probe"
)

// Span is a run of equal outcomes of one service seen from one vantage point. Latencies are in microseconds, over the
// probes that got an answer of any kind.
type Span struct {
	ServiceID int64         `json:"-" db:"service_id"`
	VantageID int64         `json:"-" db:"vantage_id"`
	Vantage   string        `json:"vantage" db:"vantage"`
	Outcome   probe.Outcome `json:"outcome" db:"outcome"`
	From      time.Time     `json:"from" db:"from_at"`
	Until     time.Time     `json:"until" db:"until_at"`
	Count     int64         `json:"count" db:"count"`
	Timed     int64         `json:"-" db:"timed"`
	Fastest   int64         `json:"fastest_us" db:"fastest_us"`
	Total     int64         `json:"-" db:"total_us"`
	Slowest   int64         `json:"slowest_us" db:"slowest_us"`
}

// Mean latency in microseconds; 0 if nothing was timed.
func (s Span) Mean() int64 {
	if s.Timed == 0 {
		return 0
	}
	return s.Total / s.Timed
}

// Result is one probe as the ledger takes it.
type Result struct {
	ServiceID, VantageID int64
	Outcome              probe.Outcome
	At                   time.Time
	Latency              time.Duration // 0 if nothing came back
}

// Fold adds a result to the newest span of its service and vantage point. Where the outcome is the same and no more than
// gap has passed since the span's end, the span grows; otherwise a new one starts and fresh is true. A gap larger than
// that is time in which nobody looked: it stays a gap. With each month (UTC) a new span begins, so that old months can be
// dropped without what runs on. A result older than the span's end is dropped: the same span comes back and fresh is
// false.
func Fold(open Span, r Result, gap time.Duration) (next Span, fresh bool) {
	if open.Count > 0 && r.At.Before(open.Until) {
		return open, false
	}
	if open.Count == 0 || open.Outcome != r.Outcome || r.At.Sub(open.Until) > gap || monthOf(r.At) != monthOf(open.From) {
		open = Span{ServiceID: r.ServiceID, VantageID: r.VantageID, Vantage: open.Vantage, Outcome: r.Outcome, From: r.At}
		fresh = true
	}
	open.Until = r.At
	open.Count++
	if us := r.Latency.Microseconds(); us > 0 {
		if open.Timed == 0 || us < open.Fastest {
			open.Fastest = us
		}
		open.Slowest = max(open.Slowest, us)
		open.Total += us
		open.Timed++
	}
	return open, fresh
}

// Gap is the longest pause between two probes of a service, at its interval, that still counts as watched.
func Gap(interval time.Duration) time.Duration { return 3*interval + 15*time.Second }

func monthOf(t time.Time) int { t = t.UTC(); return 12*t.Year() + int(t.Month()) }
