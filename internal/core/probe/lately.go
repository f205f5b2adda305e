package probe

import "time"

// Lately is how the newest probes of a service went, from one vantage point: a line that loses packets now and then, or an answer that has
// become slow, makes no state change, and is seen here. The zero value has seen nothing.
type Lately struct {
	ms    [latelyMost]uint16 // the newest is before next; 0 for none, latelyLost where nothing came back
	next  uint8
	usual float32 // milliseconds; it follows slowly
}

const (
	latelyMost = 24
	latelyLost = 1<<16 - 1
	// sentAgain is how long an answer takes at least whose first packet was lost: TCP sends it again after a second (RFC 6298), and DNS
	// clients and the like do no sooner.
	sentAgain = 900 // ms
	// slowInRow answers in a row have to take slowFloor, and slowTimes as long as usual, to be slow.
	slowInRow = 5
	slowFloor = 700 // ms
	slowTimes = 5
	// lossBursts are how many times one or two probes in a row have to be lost, with answers between. Three in a row are an outage.
	lossBursts = 3
	burstMost  = 2
	triedLeast = 16
)

// Note takes in one outcome. Latency is that of an answer.
func (l Lately) Note(o Outcome, latency time.Duration) Lately {
	switch {
	case o == Silent:
		l.ms[l.next] = latelyLost
	case o == Skipped || latency <= 0:
		return l
	default:
		ms := min(max(latency.Milliseconds(), 1), latelyLost-1)
		l.ms[l.next] = uint16(ms)
		switch x := float32(ms); {
		case l.usual == 0:
			l.usual = x
		case x < slowTimes*l.usual:
			l.usual += (x - l.usual) / 16
		}
	}
	l.next = (l.next + 1) % latelyMost
	return l
}

// Usual is how long an answer usually takes; 0 if that is not known.
func (l Lately) Usual() time.Duration { return time.Duration(l.usual * float32(time.Millisecond)) }

// at is how long the n-th newest probe took, in milliseconds.
func (l Lately) at(n int) uint16 { return l.ms[(int(l.next)+latelyMost-1-n)%latelyMost] }

func (l Lately) lostAt(n int) bool {
	ms := l.at(n)
	return ms == latelyLost || ms >= sentAgain && l.usual < sentAgain/2
}

// Lossy reports whether probes get lost now and then, or have to be sent again, while most are answered: lost of tried.
func (l Lately) Lossy() (lost, tried int, lossy bool) {
	bursts, run := 0, 0
	end := func() {
		if run > 0 && run <= burstMost {
			bursts++
			lost += run
		}
		run = 0
	}
	for n := range latelyMost {
		switch {
		case l.at(n) == 0:
		case l.lostAt(n):
			tried++
			run++
		default:
			tried++
			end()
		}
	}
	end()
	return lost, tried, tried >= triedLeast && bursts >= lossBursts && !l.isSlow()
}

func (l Lately) isSlow() bool {
	for n := range slowInRow {
		if ms := l.at(n); ms == latelyLost || ms < slowFloor || float32(ms) < slowTimes*l.usual {
			return false
		}
	}
	return l.usual > 0
}

// Slow reports whether the newest answers all take much longer than is usual, and how long the quickest of them took.
func (l Lately) Slow() (took time.Duration, slow bool) {
	if !l.isSlow() {
		return 0, false
	}
	best := l.at(0)
	for n := range slowInRow {
		best = min(best, l.at(n))
	}
	return time.Duration(best) * time.Millisecond, true
}
