package api

import (
	"net/http"
	"sync"

	"github.com/labstack/echo/v5"
	"golang.org/x/time/rate"

	"inkpost.example/inkpost/internal/access"
)

// What one key may ask, as multiples of the announcements that it may make a second: so many a second, and so many at once. An
// honest agent sends a few a minute, a vantage point one or two a second.
var (
	anythingOfKey     = pace{"requests", 10, 100}
	announcementOfKey = pace{"announcements", 1, 20}
	fetchOfKey        = pace{"fetches", 0.5, 5}
	lanReportOfKey    = pace{"LAN reports", 1, 10}
	outcomesOfKey     = pace{"outcomes", 5, 50}
)

// keyRate is how many announcements a second a key may make where nothing else is set.
const keyRate = 2

type pace struct {
	what             string
	perSecond, burst float64
}

// perKey bounds what each key asks.
type perKey struct {
	rate float64 // announcements a second
	mu   sync.Mutex
	keys map[string]map[int64]*rate.Limiter
}

// allow reports whether a key may do one more thing of a kind now.
func (p *perKey) allow(of pace, keyID int64) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.keys == nil {
		p.keys = map[string]map[int64]*rate.Limiter{}
	}
	if p.keys[of.what] == nil {
		p.keys[of.what] = map[int64]*rate.Limiter{}
	}
	l := p.keys[of.what][keyID]
	if l == nil {
		l = rate.NewLimiter(rate.Limit(of.perSecond*p.rate), int(of.burst*p.rate))
		p.keys[of.what][keyID] = l
	}
	return l.Allow()
}

var errTooOften = problemOf(http.StatusTooManyRequests, "too-often", "this key asks too often; wait a few seconds")

// bound refuses a request of a key that asks too often.
func (a *api) bound(of pace, p principal) error {
	if !a.perKey.allow(of, p.key.ID) {
		return errTooOften
	}
	return nil
}

// network names whom tries are counted for: one client network, not one of its many addresses.
func network(c *echo.Context) (string, error) {
	addr, err := clientAddress(c)
	if err != nil {
		return "", err
	}
	return access.Network(addr).String(), nil
}
