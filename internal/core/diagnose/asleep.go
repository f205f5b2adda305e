package diagnose

import (
	"fmt"
	"time"
)

// Hours counts, for each hour of the day in UTC, at how many looks a device was there and at how many it was not. Old looks fade: a
// count that reaches maxHours is halved.
type Hours [24]struct{ There, Away int }

const (
	maxHours   = 600 // ten days of a look a minute
	hoursLeast = 30  // fewer looks in an hour say nothing of it
)

// Note adds a look.
func (h *Hours) Note(at time.Time, there bool) {
	c := &h[at.UTC().Hour()]
	if there {
		c.There++
	} else {
		c.Away++
	}
	if c.There+c.Away >= maxHours {
		c.There, c.Away = c.There/2, c.Away/2
	}
}

// Asleep says when a device is usually away, in hours of UTC from until, if now is such an hour and it is usually there at others.
func (h Hours) Asleep(now time.Time) (from, until int, ok bool) {
	usually := func(hour int) (away, known bool) {
		c := h[(hour+24)%24]
		n := c.There + c.Away
		return 5*c.Away >= 4*n, n >= hoursLeast
	}
	hour := now.UTC().Hour()
	if away, known := usually(hour); !away || !known {
		return 0, 0, false
	}
	awake := false
	for other := range h {
		away, known := usually(other)
		awake = awake || known && !away
	}
	if !awake {
		return 0, 0, false // it is never there
	}
	from, until = hour, hour+1
	for away, known := usually(from - 1); away && known; away, known = usually(from - 1) {
		from--
	}
	for away, known := usually(until); away && known; away, known = usually(until) {
		until++
	}
	return (from + 24) % 24, until % 24, true
}

// pattern reports a device that sleeps at this time of the day.
func (s DeviceReport) pattern(now time.Time) []string {
	from, until, ok := s.Hours.Asleep(now)
	if !ok {
		return nil
	}
	return []string{fmt.Sprintf("it is usually away from %02d:00 to %02d:00 UTC: it sleeps, or is switched off then", from, until)}
}

// looked reports whether enough looks were counted to know the device's hours.
func (s DeviceReport) looked() bool {
	n := 0
	for _, h := range s.Hours {
		if h.There+h.Away >= hoursLeast {
			n++
		}
	}
	return n > 1
}
