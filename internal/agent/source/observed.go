package source

import (
	"context"
	"net/netip"
	"sync"
	"time"

	"inkpost.example/inkpost/internal/core/wan"
)

// Ask asks the server, over one address family, which address it sees.
type Ask func(ctx context.Context, six bool) (netip.Addr, error)

// Observed is the server's view of a connection, which is made over each family on purpose.
type Observed struct{ Ask Ask }

// Kind implements Source.
func (Observed) Kind() wan.Source { return wan.SourceObserved }

// Learn implements Source.
func (o Observed) Learn(ctx context.Context) []wan.Report {
	ctx, cancel := context.WithTimeout(ctx, Limit)
	defer cancel()
	return []wan.Report{both(wan.SourceObserved, "server", func(six bool) (netip.Addr, error) { return o.Ask(ctx, six) })}
}

// both asks over both families at once and puts what they give into one report. It is a problem only where neither gives anything.
func both(kind wan.Source, via string, ask func(six bool) (netip.Addr, error)) wan.Report {
	out := report(kind, via, time.Now())
	var addresses [2]netip.Addr
	var problems [2]error
	var wg sync.WaitGroup
	for i, six := range []bool{false, true} {
		wg.Go(func() { addresses[i], problems[i] = ask(six) })
	}
	wg.Wait()
	for i, six := range []bool{false, true} {
		if problems[i] == nil && addresses[i].IsValid() && addresses[i].Unmap().Is4() != six {
			out.Addresses = out.Addresses.With(six, addresses[i].Unmap())
		}
	}
	if out.Addresses.Known() {
		return out
	}
	out.Problem = "it gave no address"
	for _, err := range problems { // that of IPv4 is what an installer looks for first
		if err != nil {
			out.Problem = err.Error()
			break
		}
	}
	return out
}
