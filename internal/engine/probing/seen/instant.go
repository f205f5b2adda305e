package seen

import "time"

// Instant is a moment in a third of the room: nanoseconds since 1970, 0 for the zero time. What a monotonic clock said is not kept.
type Instant int64

// At returns the instant of a time.
func At(t time.Time) Instant {
	if t.IsZero() {
		return 0
	}
	return Instant(t.UnixNano())
}

// Time returns the time of an instant, in UTC.
func (i Instant) Time() time.Time {
	if i == 0 {
		return time.Time{}
	}
	return time.Unix(0, int64(i)).UTC()
}
