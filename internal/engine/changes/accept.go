package changes

import (
	"context"
	"strconv"
	"time"

	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/events"
	"inkpost.example/inkpost/internal/engine/moves"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/store"
)

// As many IDs of moves are fetched at once as were used so far, within these bounds. What is left of them when the server stops
// is never used.
const movesAhead, maxMovesAhead = 16, 4096

// accept returns the changes of a group the IDs of their moves and makes it durable.
func (ch *Changes) accept(ctx context.Context, g store.Group) error {
	if err := ch.Number(ctx, g.Changes); err != nil {
		return ch.writes.note(err, ch.Now())
	}
	if err := ch.writes.note(ch.Store.Accept(ctx, g), ch.Now()); err != nil {
		return err
	}
	ch.Moves.Accept(g)
	signal(ch.accepted)
	return nil
}

// Number returns changes the IDs of their moves, whether they come to be recorded or not. Error: that of the database.
func (ch *Changes) Number(ctx context.Context, changes []store.Change) error {
	if missing := len(changes) - len(ch.moveIDs); missing > 0 {
		ids, err := ch.Store.MoveIDs(ctx, missing+min(max(ch.movesUsed, movesAhead), maxMovesAhead))
		if err != nil {
			return err
		}
		ch.moveIDs = append(ch.moveIDs, ids...)
	}
	for i := range changes {
		changes[i].ID = ch.moveIDs[i]
	}
	ch.movesUsed += len(changes)
	ch.moveIDs = ch.moveIDs[len(changes):]
	return nil
}

// Raise increments the serials of the hostnames' zones.
func (ch *Changes) Raise(serials map[int64]uint32, hostnames []site.Hostname) {
	for _, h := range hostnames {
		if _, raised := serials[h.ZoneID]; !raised {
			serials[h.ZoneID] = names.NextSerial(ch.Record.Zone(h.ZoneID).Serial)
		}
	}
}

// AfterMove starts what follows a published move: verifying the names that follow the link, and probing its services.
func (ch *Changes) AfterMove(p record.Site, following []site.Hostname, change store.Change, s store.Stages) {
	if !ch.Push.AtOnce(following) {
		s.Published = time.Time{} // its primaries have to take it first
	}
	ch.Moves.Made(moves.Open{ID: s.MoveID, Noticed: change.Noticed, SiteID: p.ID, LinkID: change.LinkID, Zones: ch.Push.ZonesOf(following),
		Unseen: ch.Verify.Resolvable(following), Waiting: ch.Prober.ExpectedOn(p, change.LinkID)}, s)
	ch.Events.Publish(events.MoveRecorded, p.Code, strconv.FormatInt(s.MoveID, 10),
		"the address went from "+change.Old.String()+" to "+change.New.String())
	ch.Prober.Moved(p, change.LinkID)
	ch.Moves.Changed(change.LinkID, change.Noticed)
	ch.Marks.Note(p.ID)
	ch.Faults.Review(p.ID)
}
