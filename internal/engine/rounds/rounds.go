// Package rounds paces work that comes around: looks at all sites, links or services of a server.
package rounds

import (
	"math/rand/v2"
	"time"
)

// Round says when work is due again. C delivers the moments.
type Round struct {
	*time.Ticker
	every time.Duration
}

// Every returns a round at an interval above 0. The first is due at a random moment within the interval: rounds that began together would
// stay together, and whoever asks for something then would wait for all of them.
func Every(interval time.Duration) Round {
	return Round{time.NewTicker(1 + rand.N(interval)), interval}
}

// Begun has the next round be due an interval from now.
func (r Round) Begun() { r.Reset(r.every) }
