package main

import (
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func TestNothingIsCriedThatIsNotSo(t *testing.T) {
	c := scene{services: 60, vantages: 3, days: 0.5, interval: time.Minute, loss: 0.05, hiccups: 60, outages: 20, seed: 7}
	r := simulate(c)
	require.Zero(t, r.wrong)
	require.Zero(t, r.missed)
	require.Len(t, r.delays, 20)
	require.LessOrEqual(t, slices.Max(r.delays), 2*c.interval)
	// a network as bad as this does lead to wrong changes: the simulation can fail
	c.services, c.days, c.interval, c.loss = 20, 0.2, 10*time.Second, 0.6
	require.Positive(t, simulate(c).wrong)
}
