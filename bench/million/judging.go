package main

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"inkpost.example/inkpost/bench/figures"
	"inkpost.example/inkpost/bench/stocked"
	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/daemon"
	"inkpost.example/inkpost/internal/statefile"
	"inkpost.example/inkpost/internal/store/cluster"
)

// What judging is measured with: services of a site (one site stands at each address), and how often each of them is told of.
const judgedSites, judgedEach, judgedRounds = 2000, 10, 5

// judging measures what the real service takes of a processor for a round that somebody else made: from the request that brings it, with
// others, until what it means is known and kept. Error: a service that does not start, or does not take them.
func judging(ctx context.Context) (time.Duration, error) {
	dir, err := os.MkdirTemp("", "inkpost-judging-")
	if err != nil {
		return 0, err
	}
	defer os.RemoveAll(dir)
	c, err := cluster.Start(ctx, cluster.Options{Dir: dir})
	if err != nil {
		return 0, err
	}
	defer c.Stop()
	// Nobody listens at these ports, and nobody should.
	url, err := stocked.Database(ctx, c, "judging", append(stocked.Sites(judgedSites),
		stocked.Services(judgedEach, 21001, 86400, probe.ExpectClosed))...)
	if err != nil {
		return 0, err
	}
	d, err := daemon.Start(ctx, daemon.Options{Database: url, HTTP: "127.0.0.1:0", DNS: "127.0.0.1:0", ShortestInterval: time.Second,
		Policy: stocked.Policy, KeyRate: 10_000})
	if err != nil {
		return 0, err
	}
	defer d.Stop()
	const all = judgedSites * judgedEach
	if err := stocked.Probed(ctx, d, all); err != nil {
		return 0, err
	}
	there, err := vantagePoint(ctx, d, filepath.Join(dir, "gannet"))
	if err != nil {
		return 0, err
	}
	batches, err := told(ctx, d)
	if err != nil {
		return 0, err
	}
	began := figures.Processor()
	for range judgedRounds {
		for _, batch := range batches {
			batch.Sent = time.Now()
			for i := range batch.Outcomes {
				batch.Outcomes[i].At = batch.Sent
			}
			got, err := there.ReturnOutcomes(ctx, batch)
			if err != nil {
				return 0, err
			}
			if got.Taken != len(batch.Outcomes) {
				return 0, fmt.Errorf("of %d rounds %d were taken", len(batch.Outcomes), got.Taken)
			}
		}
	}
	return (figures.Processor() - began) / (all * judgedRounds), nil
}

func vantagePoint(ctx context.Context, d *daemon.Daemon, file string) (*client.Client, error) {
	invited, err := d.Engine().InviteVantage(ctx, contract.VantageInput{Name: "gannet"})
	if err != nil {
		return nil, err
	}
	claim, err := statefile.Claim(file, invited.Code)
	if err != nil {
		return nil, err
	}
	enrolled, err := d.Engine().EnrolVantage(ctx, contract.Enrolment{Code: invited.Code, Claim: claim})
	if err != nil {
		return nil, err
	}
	return client.New(d.URL, enrolled.Key)
}

// told are rounds of all services, of each one, a hundred in a batch.
func told(ctx context.Context, d *daemon.Daemon) (out []contract.OutcomeBatch, err error) {
	var batch contract.OutcomeBatch
	for n := range judgedSites {
		p, err := d.Engine().Site(ctx, fmt.Sprintf("S%d-1", n+1))
		if err != nil {
			return nil, err
		}
		for _, s := range p.Services {
			batch.Outcomes = append(batch.Outcomes, contract.OutcomeReport{Service: s.ID, Revision: s.Revision, Outcome: probe.Refused,
				Target: p.Links[0].IPv4.String()})
		}
		if len(batch.Outcomes) >= 100 {
			out, batch = append(out, batch), contract.OutcomeBatch{}
		}
	}
	return out, nil
}
