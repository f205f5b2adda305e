package ledger

import (
	"encoding/binary"
	"math"
	"time"

	"inkpost.example/inkpost/internal/core/probe"
)

// Tally is how one service did over a stretch of time, in seconds. Time that none of the fields counts is unknown.
type Tally struct {
	Good   int64 `json:"as_expected_s"` // as its owner wants it
	Partly int64 `json:"impaired_s"`    // reached from some vantage points only
	Bad    int64 `json:"failing_s"`
}

// Plus adds two tallies up.
func (t Tally) Plus(o Tally) Tally { return Tally{t.Good + o.Good, t.Partly + o.Partly, t.Bad + o.Bad} }

// Known is the time for which the service's state was known.
func (t Tally) Known() int64 { return t.Good + t.Partly + t.Bad }

// Share returns what part of the known time the service was as its owner wants it; ok is false if nothing is known.
func (t Tally) Share() (share float64, ok bool) {
	if t.Known() == 0 {
		return 0, false
	}
	return float64(t.Good) / float64(t.Known()), true
}

// Hour is the Tally of one hour. It is kept short: a server has one for each hour of the day and each service in memory.
type Hour struct{ Good, Partly, Bad uint16 }

// Tally returns the same as a Tally.
func (h Hour) Tally() Tally { return Tally{int64(h.Good), int64(h.Partly), int64(h.Bad)} }

func (h *Hour) add(expected probe.Expected, s probe.State, seconds int64) {
	n := uint16(min(seconds, 3600-h.Tally().Known()))
	switch {
	case s == probe.StateUnknown || s == "":
	case probe.AsExpected(expected, s):
		h.Good += n
	case s == probe.StateImpaired:
		h.Partly += n
	default:
		h.Bad += n
	}
}

// Day holds the hourly rollups of one service and one day (UTC), and how long its answers took that day.
type Day struct {
	Start   time.Time
	Hours   [24]Hour
	Latency Histogram
}

// DayOf returns the start of the day of a time.
func DayOf(t time.Time) time.Time { return t.UTC().Truncate(24 * time.Hour) }

// Account notes that a service was in state s from one time to another. The part that lies in the day is added to its
// hours; rest is the beginning of what lies behind it, or until where nothing does.
func (d *Day) Account(expected probe.Expected, s probe.State, from, until time.Time) (rest time.Time) {
	end := d.Start.Add(24 * time.Hour)
	if from.Before(d.Start) {
		from = d.Start
	}
	for from.Before(until) && from.Before(end) {
		next := from.Truncate(time.Hour).Add(time.Hour)
		if next.After(until) {
			next = until
		}
		// Whole seconds on a grid, so that many short stretches add up to the long one.
		seconds := next.Unix() - from.Unix()
		d.Hours[from.UTC().Hour()].add(expected, s, seconds)
		from = next
	}
	return from
}

// Sum adds up the hours that lie within from..until; an hour counts as a whole where half of it does.
func (d *Day) Sum(from, until time.Time) (sum Tally) {
	begin, end := from.Sub(d.Start), until.Sub(d.Start)
	for i, h := range d.Hours {
		middle := time.Duration(i)*time.Hour + 30*time.Minute
		if middle >= begin && middle < end {
			sum = sum.Plus(h.Tally())
		}
	}
	return sum
}

// Histogram counts the latencies of a day by size: three classes to each doubling, from 100 µs up. The last holds all that
// is longer. A class that is full stays so.
type Histogram [classes]uint16

const (
	classes      = 54
	firstClass   = 100.0 // microseconds
	perDoubling  = 3
	wholeHour    = 0x80 // in the packed form: the hour was good throughout
	nothingKnown = 0x40
)

// Add counts a latency.
func (h *Histogram) Add(d time.Duration) {
	if n := &h[classOf(d)]; *n < math.MaxUint16 {
		*n++
	}
}

func classOf(d time.Duration) int {
	us := float64(d.Microseconds())
	if us <= firstClass {
		return 0
	}
	return min(int(math.Ceil(perDoubling*math.Log2(us/firstClass))), classes-1)
}

// Latencies are the histograms of some days together.
type Latencies [classes]uint64

// Add takes a day's histogram in.
func (l *Latencies) Add(h Histogram) {
	for i, n := range h {
		l[i] += uint64(n)
	}
}

// Quantile returns the latency below which a share q (0 to 1) of them are, at most a third of a doubling too long. ok is false if there
// are none.
func (l *Latencies) Quantile(q float64) (d time.Duration, ok bool) {
	var total, seen uint64
	for _, n := range l {
		total += n
	}
	if total == 0 {
		return 0, false
	}
	for i, n := range l {
		if seen += n; float64(seen) >= q*float64(total) {
			return time.Duration(firstClass*math.Exp2(float64(i)/perDoubling)) * time.Microsecond, true
		}
	}
	return 0, false
}

// Pack writes the hours in short: one octet for an hour that was good throughout or of which nothing is known, and the
// latencies as pairs of class and count.
func (d Day) Pack() (hours, latency []byte) {
	return d.AppendHours([]byte{}), d.AppendLatency([]byte{})
}

// AppendHours appends the hours as Pack writes them.
func (d *Day) AppendHours(to []byte) []byte {
	for _, h := range d.Hours {
		switch {
		case h.Good == 3600:
			to = append(to, wholeHour)
		case h == Hour{}:
			to = append(to, nothingKnown)
		default:
			to = append(to, 0)
			for _, n := range [...]uint16{h.Good, h.Partly, h.Bad} {
				to = binary.AppendUvarint(to, uint64(n))
			}
		}
	}
	return to
}

// AppendLatency appends the latencies as Pack writes them.
func (d *Day) AppendLatency(to []byte) []byte {
	for i, n := range d.Latency {
		if n > 0 {
			to = binary.AppendUvarint(append(to, byte(i)), uint64(n))
		}
	}
	return to
}

// Unpack reads what Pack wrote. What is cut short or wrong counts as unknown.
func Unpack(start time.Time, hours, latency []byte) Day {
	d := Day{Start: start.UTC()}
	for i := 0; i < 24 && len(hours) > 0; i++ {
		kind := hours[0]
		hours = hours[1:]
		switch kind {
		case wholeHour:
			d.Hours[i].Good = 3600
		case 0:
			var h Hour
			for _, field := range []*uint16{&h.Good, &h.Partly, &h.Bad} {
				n, size := binary.Uvarint(hours)
				if size <= 0 || n > 3600 {
					return d
				}
				*field, hours = uint16(n), hours[size:]
			}
			if int(h.Good)+int(h.Partly)+int(h.Bad) > 3600 {
				return d
			}
			d.Hours[i] = h
		}
	}
	for len(latency) > 1 {
		n, size := binary.Uvarint(latency[1:])
		if size <= 0 || int(latency[0]) >= classes {
			return d
		}
		d.Latency[latency[0]], latency = uint16(min(n, math.MaxUint16)), latency[1+size:]
	}
	return d
}

// Window is a stretch of time up to now over which availability is reported.
type Window struct {
	Label string        `json:"window"`
	Long  time.Duration `json:"-"`
}

// Windows lists the stretches over which availability is reported.
func Windows() []Window {
	const day = 24 * time.Hour
	return []Window{{"24 h", day}, {"7 d", 7 * day}, {"30 d", 30 * day}, {"90 d", 90 * day}, {"1 y", 365 * day}}
}

// Availability of a service over a window. Share is of the known time; nil if nothing is known. Latencies are over the whole days that the
// window touches, in microseconds; 0 if there are none.
type Availability struct {
	Window  string   `json:"window"`
	Share   *float64 `json:"share"`
	Tally            // seconds
	Unknown int64    `json:"unknown_s"`
	Median  int64    `json:"median_us"`
	P95     int64    `json:"p95_us"`
	P99     int64    `json:"p99_us"`
}

// Over returns a service's availability over a window that ends at now, from its days in any order.
func Over(w Window, days []Day, now time.Time) Availability {
	a := Availability{Window: w.Label}
	from := now.Add(-w.Long)
	var latencies Latencies
	for i := range days { // a year of days is a lot to copy
		d := &days[i]
		if d.Start.Add(24*time.Hour).After(from) && !d.Start.After(now) {
			a.Tally = a.Tally.Plus(d.Sum(from, now.Add(time.Hour)))
			latencies.Add(d.Latency)
		}
	}
	if share, ok := a.Tally.Share(); ok {
		a.Share = &share
	}
	a.Unknown = max(0, int64(w.Long.Seconds())-a.Known())
	for q, field := range map[float64]*int64{0.5: &a.Median, 0.95: &a.P95, 0.99: &a.P99} {
		if d, ok := latencies.Quantile(q); ok {
			*field = d.Microseconds()
		}
	}
	return a
}
