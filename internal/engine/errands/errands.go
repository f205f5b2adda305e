// Package errands has what agents and vantage points are to do, as documents of the API. It owns nothing.
//
// No lock of the engine may be held when it is called: it waits for something to do.
package errands

import (
	"context"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/engine/rooms"
	"inkpost.example/inkpost/internal/engine/siteside"
	"inkpost.example/inkpost/internal/engine/vantages"
)

// Errands is the room.
type Errands struct{ *rooms.Rooms }

// News returns what has changed for a vantage point since a cursor; it waits for something until ctx ends.
func (e *Errands) News(ctx context.Context, vantageID int64, cursor uint64) (contract.AssignmentNews, bool) {
	n, ok := e.Rooms.Vantages.Await(ctx, vantageID, cursor)
	out := contract.AssignmentNews{Cursor: n.Cursor, Whole: n.Whole, Drop: n.Drop, Now: n.Now, Deadline: e.ProbeDeadline.Seconds(),
		Clock: e.Now()}
	for _, a := range n.Put {
		out.Put = append(out.Put, assignmentView(a))
	}
	for _, t := range n.Tasks {
		task := contract.ProbeTask{ID: t.ID, Service: t.ServiceID}
		if t.Look != nil {
			look := assignmentView(*t.Look)
			task.Look = &look
		}
		out.Tasks = append(out.Tasks, task)
	}
	return out, ok
}

func assignmentView(a vantages.Assignment) contract.Assignment {
	out := contract.Assignment{ID: a.ServiceID, Revision: a.Revision, Target: rooms.AddressText(a.Target), Ports: a.Ports,
		Kind: a.Kind, Transport: a.Transport, Options: a.Options,
		ProbeKey: a.ProbeKey, Hostname: a.Hostname, Own: a.Own, Pinned: a.Pinned, Expected: a.Expected,
		Interval: a.Interval.Seconds(), Quarantine: a.Quarantine}
	if a.Also.IsValid() {
		out.Also = a.Also.String()
	}
	return out
}

// AgentTasks returns what the agent of a link is to do. While that is what it has already, it waits for something new until ctx ends.
// Error: that of ctx.
func (e *Errands) AgentTasks(ctx context.Context, linkID int64, have string) (contract.AgentTasks, error) {
	t, err := e.SiteSide.Tasks(ctx, linkID, have)
	if err != nil {
		return contract.AgentTasks{}, err
	}
	out := contract.AgentTasks{Version: t.Version, Watch: []contract.WatchedDevice{}, Every: e.WatchEvery.Seconds(), Scan: t.Scan,
		Check: t.Check}
	for _, d := range t.Watch {
		one := contract.WatchedDevice{Device: d.Name, MAC: d.MAC, Address: d.Address.String(), WantIPv6: d.WantIPv6,
			IPv6: rooms.AddressText(d.IPv6)}
		for _, p := range d.Ports {
			one.Ports = append(one.Ports, watchedPortView(p))
		}
		out.Watch = append(out.Watch, one)
	}
	for _, p := range t.Proofs {
		out.Proofs = append(out.Proofs, contract.ProofTask{ID: p.ID, Transport: string(p.Transport), Port: p.Port, Borrow: p.Borrow,
			Nonce: p.Nonce, Seconds: p.For.Seconds()})
	}
	return out, nil
}

func watchedPortView(p siteside.WatchedPort) contract.WatchedPort {
	out := contract.WatchedPort{Service: p.Service, Transport: string(p.Transport), Port: p.Port, Kind: p.Kind, Options: p.Options,
		Hostname: p.Hostname, Pinned: p.Pinned}
	if p.Public.IsValid() {
		out.Public = p.Public.String()
	}
	return out
}
