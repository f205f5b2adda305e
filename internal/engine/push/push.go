package push

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"time"

	"inkpost.example/inkpost/internal/core/diagnose"
	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/pace"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/events"
	"inkpost.example/inkpost/internal/store"
	"inkpost.example/inkpost/internal/wire/dnsupdate"
)

// What each name of a remote zone should have follows from the record; what its primary last took of us is in the table
// remote_name. A name whose two sides differ is due. So the truth about what is left to do is never in a queue, and however
// many moves came while a primary was away, each name goes there once, with its newest address.

// Waits before a name is tried again.
const (
	firstRetry        = 2 * time.Second  // first wait, after no answer
	maxRetry          = 20 * time.Second // one name of a zone tries for all of them, so that it may be often
	firstRefusedRetry = time.Minute      // somebody has to do something there
	maxRefusedRetry   = time.Hour
	maxWorkers        = 8
	maxTurns          = 5 // of one name that keeps changing
)

// dueNames lists the names of a remote zone whose primary does not have what it should, or, where the zone's interval
// has passed since it took them, has to be told again.
func (p *Pusher) dueNames(z names.Zone, now time.Time) []names.Name {
	var out []names.Name
	wanted := p.zones.WantedAll(z)
	for name, want := range wanted {
		n := p.state.of(key{z.ID, name})
		if !names.SameRecords(n.Given, want) || now.Sub(n.GivenAt) >= time.Duration(z.Reassert)*time.Second {
			out = append(out, name)
		}
	}
	for _, n := range p.state.list(z.ID) {
		if wanted[n.Name] == nil {
			out = append(out, n.Name)
		}
	}
	slices.Sort(out)
	return out
}

// primary returns the way to a remote zone's primary.
func (p *Pusher) primary(z names.Zone) dnsupdate.Primary {
	out := dnsupdate.Primary{Address: z.Primary.String(), Transport: z.Transport}
	if k, ok := p.record.SigningKey(z.PrimaryKey); ok && z.PrimaryKey != "" {
		out.KeyName, out.Algorithm, out.Secret = k.Name, k.Algorithm, k.Secret
	}
	return out
}

// push carries one name to its zone's primary. wait is how long to wait before it is tried again, 0 if it is done.
func (p *Pusher) push(ctx context.Context, k key) (wait time.Duration, err error) {
	for range maxTurns {
		z := p.record.Zone(k.zoneID)
		if z.ID == 0 || !z.Pushing {
			return 0, nil
		}
		want, n := p.zones.Wanted(z, k.name), p.state.of(k)
		now := p.now()
		if len(want) == 0 && len(n.Given) == 0 {
			p.state.drop(k)
			return 0, p.table.DropRemoteName(ctx, k.zoneID, k.name)
		}
		if names.SameRecords(n.Given, want) && now.Sub(n.GivenAt) < time.Duration(z.Reassert)*time.Second {
			return 0, nil
		}
		if wait := p.state.enter(z.ID, p.ticks()); wait > 0 {
			p.heldBack(n)
			return wait + time.Duration(rand.Float64()*float64(time.Second)), nil
		}
		m, err := dnsupdate.Compose(z.Apex, k.name, n.Given, want)
		if err == nil {
			err = p.primary(z).Send(ctx, m)
		}
		if ctx.Err() != nil {
			p.state.leave(z.ID, p.ticks(), 0)
			return firstRetry, nil
		}
		p.counters.Pushed(err == nil)
		if wait := p.pushed(z, &n, want, err); wait > 0 {
			return wait, p.table.PutRemoteName(ctx, n)
		}
		if p.state.recovered(z.ID) { // the others need not wait for their turns
			p.Due(z, true)
		}
		if len(want) == 0 {
			p.state.drop(k)
			err = p.table.DropRemoteName(ctx, k.zoneID, k.name)
		} else {
			err = p.table.PutRemoteName(ctx, n)
		}
		if err != nil {
			return firstRetry, err
		}
		p.afterPush(z, n)
	}
	return time.Second, nil
}

// heldBack makes a name that waits behind others of its zone show their problem as its own.
func (p *Pusher) heldBack(n store.RemoteName) {
	if n.Problem != "" {
		return
	}
	for _, other := range p.state.list(n.ZoneID) {
		if other.Problem == string(diagnose.PushUnreachable) {
			n.Problem, n.Detail, n.Tries, n.Since = other.Problem, other.Detail, other.Tries, other.Since
			p.state.put(n)
			return
		}
	}
}

// pushed notes the outcome of one try in n and in memory. wait is 0 if the primary took it.
func (p *Pusher) pushed(z names.Zone, n *store.RemoteName, want []names.Record, err error) (wait time.Duration) {
	now := p.now()
	defer func() { p.state.put(*n) }()
	if err == nil {
		p.state.leave(z.ID, p.ticks(), 0)
		*n = store.RemoteName{ZoneID: n.ZoneID, Name: n.Name, Given: want, GivenAt: now}
		return 0
	}
	if n.Tries++; n.Tries == 1 || n.Since.IsZero() {
		n.Since = now
	}
	before := n.Problem
	n.Detail = err.Error()
	var away dnsupdate.Unreachable
	if errors.As(err, &away) {
		n.Problem = string(diagnose.PushUnreachable)
		wait = pace.Backoff(n.Tries-1, firstRetry, maxRetry, rand.Float64())
		p.state.leave(z.ID, p.ticks(), wait)
	} else {
		n.Problem = string(diagnose.PushRefused)
		wait = pace.Backoff(n.Tries-1, firstRefusedRetry, maxRefusedRetry, rand.Float64())
		p.state.leave(z.ID, p.ticks(), 0)
	}
	if before != n.Problem {
		p.log.Warn("a name could not be pushed to its primary", "zone", z.Apex, "name", n.Name, "primary", z.Primary, "problem",
			n.Problem, "detail", n.Detail)
	}
	return wait
}

// afterPush tells the engine that a primary has taken a name. done reports whether all of the site's names in that zone are there.
func (p *Pusher) afterPush(z names.Zone, n store.RemoteName) {
	where, h, ok := p.record.HostnameAt(n.Name)
	if !ok || h.ZoneID != z.ID {
		return
	}
	done := true
	for _, h := range where.Hostnames {
		done = done && (h.ZoneID != z.ID || p.heldName(z, h) == "")
	}
	p.host.Taken(h, z.ID, n.GivenAt, done)
}

// ZonesOf lists the remote zones that hostnames are pushed to.
func (p *Pusher) ZonesOf(hostnames []site.Hostname) map[int64]bool {
	var out map[int64]bool
	for _, h := range hostnames {
		if z := p.record.Zone(h.ZoneID); z.Kind == names.Remote && z.Pushing {
			if out == nil {
				out = map[int64]bool{}
			}
			out[z.ID] = true
		}
	}
	return out
}

// AtOnce reports whether a move counts as published when it is recorded: some of the hostnames are in a hosted zone,
// or there is none at all.
func (p *Pusher) AtOnce(hostnames []site.Hostname) bool {
	return len(hostnames) == 0 || slices.ContainsFunc(hostnames,
		func(h site.Hostname) bool { return p.record.Zone(h.ZoneID).Kind != names.Remote })
}

// heldName returns the first of a hostname's names that its remote zone's primary does not have as it should, "" if all are there.
func (p *Pusher) heldName(z names.Zone, h site.Hostname) names.Name {
	for _, name := range h.Owners() {
		if !names.SameRecords(p.state.of(key{z.ID, name}).Given, p.zones.Wanted(z, name)) {
			return name
		}
	}
	return ""
}

// Of says how pushing a hostname goes, and whether it is held: not pushed at all yet, or tried in vain.
func (p *Pusher) Of(h site.Hostname) (push diagnose.PushEvidence, held bool) {
	z := p.record.Zone(h.ZoneID)
	if z.Kind != names.Remote {
		return push, false
	}
	if !z.Pushing {
		return push, true
	}
	late := p.heldName(z, h)
	if late == "" {
		return push, false
	}
	n := p.state.of(key{z.ID, late})
	return diagnose.PushEvidence{Problem: diagnose.PushProblem(n.Problem), Primary: z.Primary.String(), Detail: n.Detail,
		Tries: n.Tries, Since: n.Since}, n.Problem != ""
}

// Due queues the names of a remote zone that are due; with now, also those that wait for another try are tried at once.
func (p *Pusher) Due(z names.Zone, now bool) {
	if z.Kind != names.Remote || !z.Pushing {
		return
	}
	for _, name := range p.dueNames(z, p.now()) {
		p.add(key{z.ID, name}, now)
	}
}

// Repair asks a remote zone's primary for a hostname's records; where somebody changed what it had taken of us, it is pushed again. Errors:
// those of dnsupdate.
func (p *Pusher) Repair(ctx context.Context, z names.Zone, h site.Hostname) (err error) {
	primary := p.primary(z)
	owners := h.Owners()
	where, _ := p.record.Site(h.SiteID)
	for _, a := range where.Aliases {
		if a.ZoneID == z.ID && a.HostnameID == h.ID {
			owners = append(owners, a.Name)
		}
	}
	for _, name := range owners {
		k := key{z.ID, name}
		n := p.state.of(k)
		if !z.Pushing || len(n.Given) == 0 || !names.SameRecords(n.Given, p.zones.Wanted(z, name)) {
			continue // on its way anyway
		}
		there, err := primary.Records(ctx, name, names.OwnedTypes(n.Given, nil))
		if err != nil {
			return err
		}
		if len(names.Differences(there, n.Given)) == 0 || p.state.of(k).GivenAt != n.GivenAt {
			continue
		}
		p.log.Info("a name was changed at its primary; restoring it", "zone", z.Apex, "name", name)
		p.events.Publish(events.HostnameState, h.Site, string(h.Name),
			fmt.Sprintf("%s was changed at its primary by someone else and is restored", name))
		n.GivenAt = time.Time{}
		p.state.put(n)
		p.add(k, false)
	}
	return nil
}
