package source

import (
	"context"
	"time"

	"inkpost.example/inkpost/internal/core/wan"
)

// Fixed are addresses that somebody typed.
type Fixed struct{ Addresses wan.Pair }

// Kind implements Source.
func (Fixed) Kind() wan.Source { return wan.SourceFixed }

// Learn implements Source.
func (f Fixed) Learn(context.Context) []wan.Report {
	out := report(wan.SourceFixed, "configuration", time.Now())
	if out.Addresses = f.Addresses; !f.Addresses.Known() {
		out.Problem = "no address is configured; set fixed to one"
	}
	return []wan.Report{out}
}
