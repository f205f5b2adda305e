package engine

import (
	"context"
	"maps"
	"slices"
	"time"

	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/changes"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/store"
)

// tellWait is how long accepted moves are collected before members hear of them.
const tellWait = 40 * time.Millisecond

// runTellMembers tells members that moves were accepted.
func (e *Engine) runTellMembers(ctx context.Context) {
	for {
		select {
		case <-e.Accepted():
		case <-ctx.Done():
			return
		}
		if err := e.rooms.Store.TellMoves(ctx); err != nil && ctx.Err() == nil {
			e.rooms.Log.Warn("members could not be notified of moves; they poll", "error", err)
		}
		select {
		case <-time.After(tellWait):
		case <-ctx.Done():
		}
	}
}

// raiseSerials has zones whose serial was seen newer somewhere go on after that: the database was restored from an older dump, and
// secondaries take nothing that goes back (RFC 1982). where says where it was seen.
func (e *Engine) raiseSerials(ctx context.Context, seen map[string]uint32, where string) error {
	raised := map[int64]uint32{}
	for _, z := range e.rooms.Record.Zones() {
		if was, known := seen[string(z.Apex)]; known && names.SerialAfter(was, z.Serial) {
			raised[z.ID] = names.NextSerial(was)
			e.rooms.Log.Warn("a zone's serial had gone back, as after a restore; it goes on after the one that was seen", "zone",
				z.Apex, "recorded", z.Serial,
				"seen", was, "where", where, "next", raised[z.ID])
		}
	}
	if len(raised) == 0 {
		return nil
	}
	if err := e.rooms.Store.Together(ctx, func(tx *store.Store) error { return tx.RaiseSerials(ctx, raised) }); err != nil {
		return err
	}
	e.rooms.Record.SetSerials(raised)
	return nil
}

// Loops of a member: a standby answers what the writer writes.
const (
	// memberEvery is how often a member polls, notified or not.
	memberEvery = 5 * time.Second
	// memberPause is the least time between two polls.
	memberPause = 50 * time.Millisecond
)

// Follow keeps memory and zones in line with what another server writes, until ctx ends.
func (e *Engine) Follow(ctx context.Context) {
	defer context.AfterFunc(ctx, func() { close(e.stopping) })()
	told := make(chan string, 64)
	go func() {
		for ctx.Err() == nil {
			err := e.rooms.Store.Listen(ctx, func(channel string) {
				select {
				case told <- channel:
				default: // so many wait that this one is among them
				}
			})
			if ctx.Err() == nil {
				e.rooms.Log.Warn("the database's notifications stopped; listening again", "error", err)
				select {
				case <-time.After(time.Second):
				case <-ctx.Done():
				}
			}
		}
	}()
	if err := e.rooms.Moves.ReadPatterns(ctx); err != nil && ctx.Err() == nil {
		e.rooms.Log.Warn("the rhythms of past moves could not be read", "error", err)
	}
	tick := time.NewTicker(memberEvery)
	defer tick.Stop()
	var position int64
	var asked []catchUp
	for {
		whole := false
		if len(asked) == 0 {
			select {
			case channel := <-told:
				whole = channel != store.ChannelMoves
			case <-tick.C:
				whole = true
			case one := <-e.catchUp:
				asked = append(asked, one)
			case <-ctx.Done():
				return
			}
		}
	collect:
		for {
			select {
			case channel := <-told:
				whole = whole || channel != store.ChannelMoves
			case one := <-e.catchUp:
				asked = append(asked, one)
			default:
				break collect
			}
		}
		for _, one := range asked {
			whole = whole || one.whole
		}
		bounded, cancel := context.WithTimeout(ctx, changes.Limit)
		err := e.takeOver(bounded, whole, &position)
		cancel()
		for _, one := range asked {
			close(one.done)
		}
		asked = nil
		if err != nil && ctx.Err() == nil {
			e.rooms.Log.Warn("what another server wrote could not be read; retrying", "error", err)
			select {
			case told <- store.ChannelRecord:
			default:
			}
		}
		select {
		case <-time.After(memberPause):
		case one := <-e.catchUp:
			asked = append(asked, one)
		case <-ctx.Done():
		}
	}
}

// takeOver takes over what another server has written: moves after position, or the whole record.
func (e *Engine) takeOver(ctx context.Context, whole bool, position *int64) error {
	var d record.Diff
	if whole {
		newest, err := e.rooms.Store.NewestMove(ctx) // before the record is read: what arrives meanwhile is taken again
		if err != nil {
			return err
		}
		if d, err = e.rooms.Record.LoadNow(ctx, e.rooms.Store); err != nil {
			return err
		}
		*position = newest
	}
	g, err := e.rooms.Store.Follow(ctx, *position)
	if err != nil {
		return err
	}
	if whole {
		if err := e.Mirror(d); err != nil {
			return err
		}
		if err := e.readStates(ctx); err != nil {
			return err
		}
	}
	return e.takeMoves(g, position)
}

// takeMoves has memory and zones follow moves that another server accepted.
func (e *Engine) takeMoves(g store.Group, position *int64) error {
	moved, sites := map[int64]bool{}, map[int64]record.Site{}
	var links []site.Link
	for _, c := range g.Changes {
		_, l, ok := e.rooms.Record.SiteOfLink(c.LinkID)
		if !ok {
			continue
		}
		links, moved[l.ID] = append(links, c.On(l)), true
		e.rooms.Moves.Changed(l.ID, c.Noticed)
		*position = max(*position, c.ID)
	}
	e.rooms.Record.SetLinks(links)
	newer := map[int64]uint32{}
	for id, serial := range g.Serials {
		if z := e.rooms.Record.Zone(id); z.ID != 0 && z.Serial != serial {
			newer[id] = serial
		}
	}
	e.rooms.Record.SetSerials(newer)
	for _, c := range g.Changes {
		if p, ok := e.rooms.Record.Site(c.SiteID); ok {
			sites[c.SiteID] = p
		}
	}
	return e.Publish(slices.Collect(maps.Values(sites)), func(p record.Site) []site.Hostname { return p.Following(moved) }, newer)
}

// readStates reads what is kept of states: commissionings and planned work, and where it is not known better those of services and the
// open faults. Error: that of the database.
func (e *Engine) readStates(ctx context.Context) error {
	if err := e.rooms.Runs.Read(ctx); err != nil {
		return err
	}
	if e.sees.Load() {
		return e.rooms.Faults.ReadWork(ctx)
	}
	states, err := e.rooms.Store.ServiceStates(ctx)
	if err != nil {
		return err
	}
	e.rooms.Prober.SetStates(states)
	return e.rooms.Faults.Resume(ctx)
}
