package views

import (
	"context"
	"strings"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/diagnose"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/probing"
	"inkpost.example/inkpost/internal/engine/probing/named"
	"inkpost.example/inkpost/internal/engine/probing/result"
	"inkpost.example/inkpost/internal/engine/probing/seen"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/wire/speak"
)

// ProbeNow probes a service at once, out of turn, and returns the trace. The result counts like any other. vantage names the vantage point;
// "" is the server's own.
func (vw *Views) ProbeNow(ctx context.Context, code, service, vantage string) (contract.ProbeTrace, error) {
	where, s, err := vw.FindService(code, service)
	if err != nil {
		return contract.ProbeTrace{}, err
	}
	if vantage = strings.TrimSpace(vantage); vantage != "" && vantage != vw.Vantage {
		return vw.probeFrom(ctx, where, s, vantage)
	}
	r := vw.Prober.Story(ctx, s)
	if rule := s.RuleAt(r.At); rule.Expected == probe.ExpectReachable && rule.Meaning(r.Outcome) == probe.NotWanted {
		r.Series = vw.Prober.Explain(ctx, r)
	}
	if ctx.Err() == nil {
		vw.Prober.TakeOutOfTurn(s.ID, r)
	}
	return vw.story(where, s, r, vw.Vantage), nil
}

func (vw *Views) story(where record.Site, s site.Service, r result.Round, vantage string) contract.ProbeTrace {
	now := vw.Prober.Status(s.ID)
	mute := s.Mute() && r.Outcome == probe.Silent
	rule := s.RuleAt(r.At)
	attempts := make([]contract.TracedAttempt, len(r.Attempts))
	for i, a := range r.Attempts {
		attempts[i] = contract.TracedAttempt{Attempt: a, Verdict: diagnose.OfOutcome(rule, a.Outcome)}
	}
	if r.Series != nil && len(attempts) > 0 {
		for _, line := range r.Series.Words() {
			attempts[0].Steps = append(attempts[0].Steps, probe.Step{Name: "hop limit", AtUS: attempts[0].TookUS, Words: line})
		}
	}
	return contract.ProbeTrace{Words: probe.Words(s.ExpectedAt(r.At), now.State, mute), Site: where.Code, Service: s.Name,
		Vantage: vantage, Hostname: r.Hostname, At: r.At,
		Outcome: r.Outcome, State: now.State, Attempts: attempts, Fingerprint: r.Fingerprint, Pinned: s.Fingerprint,
		Certificate: certificateView(r.Certificate), Weakness: r.Weakness, Named: namedView(r.Named), NotProvable: mute}
}

func certificateView(c *speak.Certificate) *contract.Certificate {
	if c == nil {
		return nil
	}
	return &contract.Certificate{Names: c.Names, Expires: c.Expires, Problem: c.Problem}
}

func namedView(n *named.Result) *contract.NameResult {
	if n == nil {
		return nil
	}
	return &contract.NameResult{Hostname: n.Hostname, Resolver: n.Resolver, Given: n.Given.String(), Outcome: n.Outcome,
		Message: n.Message, At: n.At}
}

func waysView(list []seen.Way) (out []contract.ServiceWay) {
	for _, w := range list {
		one := contract.ServiceWay{Way: w.Reach, Outcome: w.Outcome, Message: w.Message}
		if w.Target.IsValid() {
			one.Target = w.Target.String()
		}
		out = append(out, one)
	}
	return out
}

// probeFrom makes another vantage point probe a service, and returns the trace.
func (vw *Views) probeFrom(ctx context.Context, where record.Site, s site.Service, vantage string) (contract.ProbeTrace, error) {
	v, o, err := vw.Rooms.Vantages.Probe(ctx, vantage, s.ID)
	if err != nil {
		return contract.ProbeTrace{}, err
	}
	l, _ := where.Followed(s.LinkID)
	r := result.Round{Service: s, Hostname: where.HostnameOn(l), At: o.At, Outcome: o.Outcome, Fingerprint: o.Fingerprint,
		Attempts: o.Attempts}
	if len(r.Attempts) == 0 {
		r.Attempts = []probe.Attempt{{Target: o.Target, Outcome: o.Outcome, Message: o.Message}}
	}
	return vw.story(where, s, r, v.Name), nil
}

// ProbeCounts is what the prober has done since it started, and how services and vantage points stand now.
type ProbeCounts struct {
	probing.Counts
	Vantages map[string]int // by state
}

// ProbeCounts counts what the prober has done.
func (vw *Views) ProbeCounts() ProbeCounts {
	out := ProbeCounts{Counts: vw.Prober.Counts(), Vantages: map[string]int{}}
	for _, v := range vw.Vantages() {
		out.Vantages[v.State]++
	}
	return out
}
