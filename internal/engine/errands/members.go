package errands

import (
	"context"
	"encoding/json"
	"time"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/engine/shards"
)

// JoinShards takes in another server that makes up to room rounds at once.
func (e *Errands) JoinShards(name string, room int) *shards.Place { return e.Shards.Join(name, room) }

// Lent waits for rounds that another server is to make until ctx ends; there may be none then. ok is false once it has left.
func (e *Errands) Lent(ctx context.Context, place *shards.Place) (list []contract.LentProbe, ok bool) {
	orders, ok := place.Orders(ctx)
	list = make([]contract.LentProbe, 0, len(orders))
	for _, o := range orders {
		list = append(list, contract.LentProbe{ID: o.ID, Service: o.ServiceID, Revision: o.Revision, Target: o.Address, ByName: o.ByName})
	}
	return list, ok
}

// NoteRounds takes in rounds that another server has made, and reports whether that has a place here.
func (e *Errands) NoteRounds(in contract.LentRounds) bool {
	list := make([]shards.Round, len(in.Rounds))
	for i, r := range in.Rounds {
		list[i] = shards.Round{ID: r.ID, Behind: r.Behind, Age: time.Duration(r.AgeUS) * time.Microsecond, Doc: r.Round}
	}
	return e.Shards.Take(in.Server, list)
}

// Borrowed makes a round for the server that writes. The age of what it returns is zero.
func (e *Errands) Borrowed(ctx context.Context, o contract.LentProbe) contract.LentRound {
	r, ok := e.Prober.Borrowed(ctx, o.Service, o.Revision, o.Target, o.ByName)
	doc, err := json.Marshal(r)
	if !ok || err != nil {
		return contract.LentRound{ID: o.ID, Behind: true}
	}
	return contract.LentRound{ID: o.ID, Round: doc}
}
