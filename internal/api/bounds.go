package api

import (
	"net/http"

	"github.com/labstack/echo/v5"

	"inkpost.example/inkpost/internal/access/throttle"
)

// What one key may ask for. An honest agent sends a few requests a minute, a vantage point one or two a second.
var (
	anythingOfKey     = throttle.Pace{What: "requests", PerSecond: 10, Burst: 100}
	announcementOfKey = throttle.Pace{What: "announcements", PerSecond: 1, Burst: 20}
	fetchOfKey        = throttle.Pace{What: "fetches", PerSecond: 0.5, Burst: 5}
	lanReportOfKey    = throttle.Pace{What: "LAN reports", PerSecond: 1, Burst: 10}
	outcomesOfKey     = throttle.Pace{What: "outcomes", PerSecond: 5, Burst: 50}
)

var errTooOften = problemOf(http.StatusTooManyRequests, "too-often", "this key asks too often; wait a few seconds")

// bound refuses a request of a key that asks too often.
func (a *api) bound(of throttle.Pace, p principal) error {
	if !a.perKey.Allow(of, p.key.ID) {
		return errTooOften
	}
	return nil
}

// network is what tries are counted by: one client network, not one of its many addresses.
func network(c *echo.Context) (string, error) {
	addr, err := clientAddress(c)
	if err != nil {
		return "", err
	}
	return throttle.Network(addr).String(), nil
}
