package engine

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
	pushAgain       = 2 * time.Second  // first wait, after no answer
	pushAgainMost   = 20 * time.Second // one name of a zone tries for all of them, so that it may be often
	refusedAgain    = time.Minute      // somebody has to do something there
	refusedMost     = time.Hour
	pushesAtOnce    = 8
	pushesInOneTurn = 5 // of one name that keeps changing
)

func (e *Engine) loadRemote(ctx context.Context) error {
	list, err := e.store.RemoteNames(ctx)
	if err != nil {
		return err
	}
	e.remote.names, e.remote.resting, e.remote.trying = map[remoteKey]store.RemoteName{}, map[int64]time.Time{}, map[int64]bool{}
	for _, n := range list {
		e.remote.put(n)
	}
	return nil
}

// dueNames lists the names of a remote zone whose primary does not have what it should, or, where the zone's interval
// has passed since it took them, has to be told again.
func (e *Engine) dueNames(z names.Zone, now time.Time) []names.Name {
	var out []names.Name
	wanted := e.zones.WantedAll(z)
	for name, want := range wanted {
		n := e.remote.of(remoteKey{z.ID, name})
		if !names.SameRecords(n.Given, want) || now.Sub(n.GivenAt) >= time.Duration(z.Reassert)*time.Second {
			out = append(out, name)
		}
	}
	for _, n := range e.remote.list(z.ID) {
		if wanted[n.Name] == nil {
			out = append(out, n.Name)
		}
	}
	slices.Sort(out)
	return out
}

// primary gives the way to a remote zone's primary.
func (e *Engine) primary(z names.Zone) dnsupdate.Primary {
	p := dnsupdate.Primary{Address: z.Primary.String(), Transport: z.Transport}
	if k, ok := e.record.SigningKey(z.PrimaryKey); ok && z.PrimaryKey != "" {
		p.KeyName, p.Algorithm, p.Secret = k.Name, k.Algorithm, k.Secret
	}
	return p
}

// push carries one name to its zone's primary. wait is how long to wait before it is tried again, 0 where it is done.
func (e *Engine) push(ctx context.Context, k remoteKey) (wait time.Duration, err error) {
	for range pushesInOneTurn {
		z := e.record.Zone(k.zoneID)
		if z.ID == 0 || !z.Pushing {
			return 0, nil
		}
		want, n := e.zones.Wanted(z, k.name), e.remote.of(k)
		now := e.now()
		if len(want) == 0 && len(n.Given) == 0 {
			e.remote.drop(k)
			return 0, e.store.DropRemoteName(ctx, k.zoneID, k.name)
		}
		if names.SameRecords(n.Given, want) && now.Sub(n.GivenAt) < time.Duration(z.Reassert)*time.Second {
			return 0, nil
		}
		if wait := e.remote.enter(z.ID, e.ticks()); wait > 0 {
			e.heldBack(n)
			return wait + time.Duration(rand.Float64()*float64(time.Second)), nil
		}
		m, err := dnsupdate.Compose(z.Apex, k.name, n.Given, want)
		if err == nil {
			err = e.primary(z).Send(ctx, m)
		}
		if ctx.Err() != nil {
			e.remote.leave(z.ID, e.ticks(), 0)
			return pushAgain, nil
		}
		if wait := e.pushed(z, &n, want, err); wait > 0 {
			return wait, e.store.PutRemoteName(ctx, n)
		}
		if e.remote.recovered(z.ID) { // the others need not wait for their turns
			e.pushDue(z, true)
		}
		if len(want) == 0 {
			e.remote.drop(k)
			err = e.store.DropRemoteName(ctx, k.zoneID, k.name)
		} else {
			err = e.store.PutRemoteName(ctx, n)
		}
		if err != nil {
			return pushAgain, err
		}
		e.afterPush(z, n)
	}
	return time.Second, nil
}

// heldBack lets a name that waits behind others of its zone show their problem as its own.
func (e *Engine) heldBack(n store.RemoteName) {
	if n.Problem != "" {
		return
	}
	for _, other := range e.remote.list(n.ZoneID) {
		if other.Problem == string(diagnose.PushUnreachable) {
			n.Problem, n.Detail, n.Tries, n.Since = other.Problem, other.Detail, other.Tries, other.Since
			e.remote.put(n)
			return
		}
	}
}

// pushed notes the outcome of one try in n and in memory. wait is 0 where the primary took it.
func (e *Engine) pushed(z names.Zone, n *store.RemoteName, want []names.Record, err error) (wait time.Duration) {
	now := e.now()
	defer func() { e.remote.put(*n) }()
	if err == nil {
		e.remote.leave(z.ID, e.ticks(), 0)
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
		wait = pace.Backoff(n.Tries-1, pushAgain, pushAgainMost, rand.Float64())
		e.remote.leave(z.ID, e.ticks(), wait)
	} else {
		n.Problem = string(diagnose.PushRefused)
		wait = pace.Backoff(n.Tries-1, refusedAgain, refusedMost, rand.Float64())
		e.remote.leave(z.ID, e.ticks(), 0)
	}
	if before != n.Problem {
		e.log.Warn("a name does not go to its primary", "zone", z.Apex, "name", n.Name, "primary", z.Primary, "problem", n.Problem, "detail", n.Detail)
	}
	return wait
}

// afterPush sets off what follows a name that its primary has taken: the site's moves are published in that zone once all
// its names are there, and the primary is asked whether it answers them.
func (e *Engine) afterPush(z names.Zone, n store.RemoteName) {
	p, h, ok := e.record.HostnameAt(n.Name)
	if !ok || h.ZoneID != z.ID {
		return
	}
	e.verify.Published(h.ID, n.GivenAt)
	all := true
	for _, h := range p.Hostnames {
		all = all && (h.ZoneID != z.ID || e.heldName(z, h) == "")
	}
	if all {
		e.moves.Published(p.ID, z.ID, n.GivenAt)
	}
	e.faults.review(p.ID)
	e.verify.Ask(p.ID)
}

// remoteZonesOf lists the remote zones that hostnames are pushed to.
func (e *Engine) remoteZonesOf(hostnames []site.Hostname) map[int64]bool {
	var out map[int64]bool
	for _, h := range hostnames {
		if z := e.record.Zone(h.ZoneID); z.Kind == names.Remote && z.Pushing {
			if out == nil {
				out = map[int64]bool{}
			}
			out[z.ID] = true
		}
	}
	return out
}

// publishedAtOnce reports whether a move counts as published when it is recorded: some of the hostnames are in a hosted zone,
// or there is none at all.
func (e *Engine) publishedAtOnce(hostnames []site.Hostname) bool {
	return len(hostnames) == 0 || slices.ContainsFunc(hostnames, func(h site.Hostname) bool { return e.record.Zone(h.ZoneID).Kind != names.Remote })
}

// heldName gives the first of a hostname's names that its remote zone's primary does not have as it should, "" where all
// are there.
func (e *Engine) heldName(z names.Zone, h site.Hostname) names.Name {
	for _, name := range h.Owners() {
		if !names.SameRecords(e.remote.of(remoteKey{z.ID, name}).Given, e.zones.Wanted(z, name)) {
			return name
		}
	}
	return ""
}

// pushOf says how pushing a hostname goes, and whether it is held: not pushed at all yet, or tried in vain.
func (e *Engine) pushOf(h site.Hostname) (push diagnose.PushEvidence, held bool) {
	z := e.record.Zone(h.ZoneID)
	if z.Kind != names.Remote {
		return push, false
	}
	if !z.Pushing {
		return push, true
	}
	late := e.heldName(z, h)
	if late == "" {
		return push, false
	}
	n := e.remote.of(remoteKey{z.ID, late})
	return diagnose.PushEvidence{Problem: diagnose.PushProblem(n.Problem), Primary: z.Primary.String(), Detail: n.Detail, Tries: n.Tries, Since: n.Since}, n.Problem != ""
}

// pushDue queues the names of a remote zone that are due; with now, also those that wait for another try are tried at once.
func (e *Engine) pushDue(z names.Zone, now bool) {
	if z.Kind != names.Remote || !z.Pushing {
		return
	}
	for _, name := range e.dueNames(z, e.now()) {
		e.queue.add(remoteKey{z.ID, name}, now)
	}
}

// repair asks a remote zone's primary for a hostname's records; where somebody changed what it had taken of us, it is
// pushed again.
func (e *Engine) repair(ctx context.Context, z names.Zone, h site.Hostname) (err error) {
	primary := e.primary(z)
	owners := h.Owners()
	p, _ := e.record.Site(h.SiteID)
	for _, a := range p.Aliases {
		if a.ZoneID == z.ID && a.HostnameID == h.ID {
			owners = append(owners, a.Name)
		}
	}
	for _, name := range owners {
		k := remoteKey{z.ID, name}
		n := e.remote.of(k)
		if !z.Pushing || len(n.Given) == 0 || !names.SameRecords(n.Given, e.zones.Wanted(z, name)) {
			continue // on its way anyway
		}
		there, err := primary.Records(ctx, name, names.OwnedTypes(n.Given, nil))
		if err != nil {
			return err
		}
		if len(names.Differences(there, n.Given)) == 0 || e.remote.of(k).GivenAt != n.GivenAt {
			continue
		}
		e.log.Info("somebody changed a name at its primary; it is put right", "zone", z.Apex, "name", name)
		e.Events.Publish(events.HostnameState, h.Site, string(h.Name), fmt.Sprintf("%s was changed at its primary by somebody else and is put right", name))
		n.GivenAt = time.Time{}
		e.remote.put(n)
		e.queue.add(k, false)
	}
	return nil
}
