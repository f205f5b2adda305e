// Package sourcetest checks a source of addresses against what package source asks of one.
package sourcetest

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/agent/source"
	"inkpost.example/inkpost/internal/core/wan"
)

// Check checks a source where it can learn the addresses want, and one of the same kind where it can learn nothing.
func Check(t *testing.T, kind wan.Source, want wan.Pair, works, fails source.Source) {
	t.Helper()
	known, err := wan.ParseSource(string(kind))
	require.NoError(t, err)
	for _, s := range []source.Source{works, fails} {
		require.Equal(t, known, s.Kind())
	}
	before := time.Now()
	reports := works.Learn(t.Context())
	sound(t, kind, before, reports)
	var got wan.Pair
	for _, r := range reports {
		require.Empty(t, r.Problem)
		for _, six := range []bool{false, true} {
			if a := r.Addresses.Of(six); a.IsValid() {
				got = got.With(six, a)
			}
		}
	}
	require.Equal(t, want, got)

	before = time.Now()
	reports = fails.Learn(t.Context())
	require.Less(t, time.Since(before), source.Limit+time.Second, "it takes no longer than Limit")
	sound(t, kind, before, reports)
	for _, r := range reports {
		require.NotEmpty(t, r.Problem, "a source that learns nothing says why")
		require.False(t, r.Addresses.Known(), "a source that learns nothing gives no address")
	}

	ended, end := context.WithCancel(t.Context())
	end()
	before = time.Now()
	sound(t, kind, before, works.Learn(ended))
	sound(t, kind, before, fails.Learn(ended))
	require.Less(t, time.Since(before), time.Second, "it stops when it is told to")

	done := make(chan []wan.Report, 4)
	for range cap(done) {
		go func() { done <- works.Learn(context.Background()) }()
	}
	for range cap(done) {
		sound(t, kind, before, <-done)
	}
}

func sound(t *testing.T, kind wan.Source, before time.Time, reports []wan.Report) {
	t.Helper()
	require.NotEmpty(t, reports, "there is one report at least")
	for _, r := range reports {
		require.Equal(t, kind, r.Source)
		require.False(t, r.At.Before(before.Add(-time.Millisecond)), "a report says when it was asked")
		require.True(t, r.Problem == "" || !r.Addresses.Known(), "either an address or a problem")
		require.True(t, !r.Addresses.IPv4.IsValid() || r.Addresses.IPv4.Is4(), "an IPv4 address in its place")
		require.True(t, !r.Addresses.IPv6.IsValid() || r.Addresses.IPv6.Is6() && !r.Addresses.IPv6.Is4In6(), "an IPv6 address in its place")
	}
}
