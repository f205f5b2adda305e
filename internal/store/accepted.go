package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgtype"

	"inkpost.example/inkpost/internal/core/wan"
)

// Change is one accepted announcement on its way into the record. ID is that of its move.
type Change struct {
	ID, SiteID, LinkID int64
	Old, New           wan.Pair
	Source             wan.Source
	Noticed, Received  time.Time
}

// Group is a number of changes in their order, and the serial that each zone has with the last of them.
type Group struct {
	Changes []Change
	Serials map[int64]uint32
}

// Add appends a later group.
func (g *Group) Add(later Group) {
	g.Changes = append(g.Changes, later.Changes...)
	if g.Serials == nil {
		g.Serials = map[int64]uint32{}
	}
	maps.Copy(g.Serials, later.Serials)
}

// accepted is a group as it is written down, with times in microseconds since 1970.
type accepted struct {
	Serials map[int64]uint32 `json:"serials"`
	Moves   []acceptedMove   `json:"moves"`
}

type acceptedMove struct {
	ID       int64      `json:"id"`
	Site     int64      `json:"site"`
	Link     int64      `json:"link"`
	Old4     string     `json:"old4,omitempty"`
	Old6     string     `json:"old6,omitempty"`
	New4     string     `json:"new4,omitempty"`
	New6     string     `json:"new6,omitempty"`
	Source   wan.Source `json:"source"`
	Noticed  int64      `json:"noticed"`
	Received int64      `json:"received"`
}

func (g Group) accepted() accepted {
	out := accepted{Serials: g.Serials, Moves: make([]acceptedMove, len(g.Changes))}
	text := func(a netip.Addr) string {
		if !a.IsValid() {
			return ""
		}
		return a.String()
	}
	for i, c := range g.Changes {
		out.Moves[i] = acceptedMove{ID: c.ID, Site: c.SiteID, Link: c.LinkID, Old4: text(c.Old.IPv4), Old6: text(c.Old.IPv6),
			New4: text(c.New.IPv4), New6: text(c.New.IPv6),
			Source: c.Source, Noticed: c.Noticed.UnixMicro(), Received: c.Received.UnixMicro()}
	}
	return out
}

func (a accepted) group() (Group, error) {
	g := Group{Serials: a.Serials, Changes: make([]Change, len(a.Moves))}
	var failed error
	address := func(text string) netip.Addr {
		if text == "" {
			return netip.Addr{}
		}
		a, err := netip.ParseAddr(text)
		failed = errors.Join(failed, err)
		return a
	}
	for i, m := range a.Moves {
		g.Changes[i] = Change{ID: m.ID, SiteID: m.Site, LinkID: m.Link, Source: m.Source,
			Old: wan.Pair{IPv4: address(m.Old4), IPv6: address(m.Old6)}, New: wan.Pair{IPv4: address(m.New4), IPv6: address(m.New6)},
			Noticed: time.UnixMicro(m.Noticed).UTC(), Received: time.UnixMicro(m.Received).UTC()}
	}
	return g, failed
}

// MoveIDs returns n IDs, in rising order, that no other move has.
func (s *Store) MoveIDs(ctx context.Context, n int) (ids []int64, err error) {
	err = s.db.SelectContext(ctx, &ids, `SELECT nextval(pg_get_serial_sequence('move', 'id')) FROM generate_series(1, $1)`, n)
	return ids, err
}

// acceptStatement writes nothing if another server has become the writer. The lock on the writer's row makes a successor wait for what is
// under way, and makes what comes later see the new epoch.
const acceptStatement = `INSERT INTO accepted (id, content) SELECT $1, $2 FROM writer WHERE epoch = $3 FOR SHARE`

// row returns what acceptStatement takes.
func (g Group) row() (id int64, content string, err error) {
	text, err := json.Marshal(g.accepted())
	return g.Changes[0].ID, string(text), err
}

// Accept makes a group durable, as a whole or not at all. It takes effect on what is read by Settle, or when the store is
// opened the next time.
func (s *Store) Accept(ctx context.Context, g Group) error {
	id, content, err := g.row()
	if err != nil {
		return err
	}
	done, err := s.writes.Exec(ctx, acceptStatement, id, content, s.epoch())
	if err != nil {
		return fmt.Errorf("record %d moves: %w", len(g.Changes), err)
	}
	if done.RowsAffected() != 1 {
		return ErrNotWriter
	}
	return nil
}

// AcceptWith makes a group durable in the transaction that the store stands for, which Together has fenced.
func (s *Store) AcceptWith(ctx context.Context, g Group) error {
	if len(g.Changes) == 0 {
		return nil
	}
	id, content, err := g.row()
	if err != nil {
		return err
	}
	_, err = s.db.ExecContext(ctx, acceptStatement, id, content, s.epoch())
	return err
}

// Settle brings accepted groups, put together in their order, into the tables that are read, and notes stages that moves have reached,
// these or earlier ones: all of it or nothing. It may be called again with the same group if its outcome is unknown: what is no longer
// among the accepted was settled.
//
// It does not wait for the disk: what is lost with the database's machine within the next fraction of a second was accepted
// durably, and is settled anew.
func (s *Store) Settle(ctx context.Context, g Group, stages []Stages) error {
	tx, err := s.writes.Begin(ctx)
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback(context.WithoutCancel(ctx)) }()
	var ours bool
	if err := tx.QueryRow(ctx, `SELECT true FROM writer WHERE epoch = $1 FOR SHARE`, s.epoch()).Scan(&ours); err != nil {
		return notWriter(err)
	}
	reached := merged(stages)
	if err := settleMoves(ctx, tx, g.Changes, reached); err != nil {
		return err
	}
	var together pgx.Batch
	together.Queue(`SET LOCAL synchronous_commit = off`)
	queueLinks(&together, g.Changes)
	if len(g.Serials) > 0 {
		zones := slices.Sorted(maps.Keys(g.Serials))
		serials := make([]int64, len(zones))
		for i, zone := range zones {
			serials[i] = int64(g.Serials[zone])
		}
		together.Queue(`UPDATE zone SET serial = t.serial FROM unnest($1::bigint[], $2::bigint[]) AS t(id, serial)
			WHERE zone.id = t.id`, zones, serials)
	}
	if len(reached) > 0 {
		queueStages(&together, slices.Collect(maps.Values(reached)))
	}
	queuePublished(&together, stages)
	if err := tx.SendBatch(ctx, &together).Close(); err != nil {
		return err
	}
	return tx.Commit(ctx)
}

var moveColumns = []string{"id", "site_id", "link_id", "old_ipv4", "old_ipv6", "new_ipv4", "new_ipv6", "source", "noticed_at",
	"received_at",
	"recorded_at", "published_at", "answered_at", "seen_at", "confirmed_at"}

// settleMoves records the moves that are still among the accepted, with the stages that they have reached already, which it
// takes from reached.
func settleMoves(ctx context.Context, tx pgx.Tx, changes []Change, reached map[int64]Stages) error {
	if len(changes) == 0 {
		return nil
	}
	// An earlier one that is not ours was cut off while it was written, and its sender was told that it was not recorded. It is dropped,
	// too: it must not overwrite what came after.
	var first *int64
	if err := tx.QueryRow(ctx, `WITH gone AS (DELETE FROM accepted WHERE id <= $1 RETURNING id) SELECT min(id) FROM gone`,
		changes[len(changes)-1].ID).Scan(&first); err != nil {
		return err
	}
	at, _ := slices.BinarySearchFunc(changes, first, func(c Change, first *int64) int {
		if first == nil || c.ID < *first {
			return -1
		}
		return 1
	})
	left := changes[at:]
	address := func(a netip.Addr) any {
		if !a.IsValid() {
			return nil
		}
		return a
	}
	moment := func(t time.Time) any {
		if t.IsZero() {
			return nil
		}
		return t
	}
	_, err := tx.CopyFrom(ctx, pgx.Identifier{"move"}, moveColumns, pgx.CopyFromSlice(len(left), func(i int) ([]any, error) {
		c := left[i]
		s := reached[c.ID]
		delete(reached, c.ID)
		return []any{c.ID, c.SiteID, c.LinkID, address(c.Old.IPv4), address(c.Old.IPv6), address(c.New.IPv4), address(c.New.IPv6),
			string(c.Source), c.Noticed, c.Received,
			moment(s.Recorded), moment(s.Published), moment(s.Answered), moment(s.Seen), moment(s.Confirmed)}, nil
	}))
	return err
}

// queueLinks returns each link the address of its last change.
func queueLinks(together *pgx.Batch, changes []Change) {
	if len(changes) == 0 {
		return
	}
	last := make(map[int64]Change, len(changes))
	for _, c := range changes {
		last[c.LinkID] = c
	}
	n := len(last)
	links := slices.Sorted(maps.Keys(last))
	new4, new6 := make(pgtype.FlatArray[netip.Addr], n), make(pgtype.FlatArray[netip.Addr], n)
	sources, received := make([]string, n), make(pgtype.FlatArray[time.Time], n)
	for i, id := range links {
		c := last[id]
		new4[i], new6[i], sources[i], received[i] = c.New.IPv4, c.New.IPv6, string(c.Source), c.Received
	}
	together.Queue(`UPDATE link SET ipv4 = t.new4, ipv6 = t.new6, source = t.source, since_at = t.received,
		heard_at = greatest(heard_at, t.received)
		FROM unnest($1::bigint[], $2::inet[], $3::inet[], $4::text[], $5::timestamptz[]) AS t(link_id, new4, new6, source, received)
		WHERE link.id = t.link_id`, links, new4, new6, sources, received)
}

// settleAccepted settles what an earlier run accepted and did not come to settle.
func (s *Store) settleAccepted(ctx context.Context) error {
	all, err := s.unsettled(ctx)
	if err != nil || len(all.Changes) == 0 {
		return err
	}
	if err := s.Settle(ctx, all, nil); err != nil {
		return fmt.Errorf("settle moves that were accepted: %w", err)
	}
	return nil
}

// Follow returns the moves after one, in their order, and the serials of the zones that go with the last of them: as a writer has accepted
// them, settled or not. Serials are complete with every, and otherwise those of zones that these moves changed, at least: what was accepted
// before them is not read again.
func (s *Store) Follow(ctx context.Context, after int64, every bool) (Group, error) {
	g := Group{Serials: map[int64]uint32{}}
	tx, err := s.pool.BeginTx(ctx, pgx.TxOptions{IsoLevel: pgx.RepeatableRead, AccessMode: pgx.ReadOnly})
	if err != nil {
		return g, err
	}
	defer func() { _ = tx.Rollback(context.WithoutCancel(ctx)) }()
	rows, err := tx.Query(ctx, `SELECT id, site_id, link_id, old_ipv4, old_ipv6, new_ipv4, new_ipv6, source, noticed_at, received_at
		FROM move WHERE id > $1 ORDER BY id`, after)
	if err != nil {
		return g, err
	}
	var id, siteID, link int64
	var addresses [4]*netip.Prefix
	var source string
	var noticed, received time.Time
	to := []any{&id, &siteID, &link, &addresses[0], &addresses[1], &addresses[2], &addresses[3], &source, &noticed, &received}
	if _, err := pgx.ForEachRow(rows, to, func() error {
		of := func(i int) netip.Addr {
			if addresses[i] == nil {
				return netip.Addr{}
			}
			return addresses[i].Addr()
		}
		g.Changes = append(g.Changes, Change{ID: id, SiteID: siteID, LinkID: link, Old: wan.Pair{IPv4: of(0), IPv6: of(1)},
			New:    wan.Pair{IPv4: of(2), IPv6: of(3)},
			Source: wan.Source(source), Noticed: noticed.UTC(), Received: received.UTC()})
		return nil
	}); err != nil {
		return g, err
	}
	from := after
	if every {
		from = 0
	}
	if every || len(g.Changes) > 0 { // without a move in the tables, their serials are older than those of moves before these
		if err := tableSerials(ctx, tx, g.Serials); err != nil {
			return g, err
		}
	}
	rows, err = tx.Query(ctx, `SELECT content FROM accepted WHERE id > $1 ORDER BY id`, from) // a group has the number of its first move
	if err != nil {
		return g, err
	}
	var content string
	_, err = pgx.ForEachRow(rows, []any{&content}, func() error {
		var a accepted
		if err := json.Unmarshal([]byte(content), &a); err != nil {
			return err
		}
		later, err := a.group()
		later.Changes = slices.DeleteFunc(later.Changes, func(c Change) bool { return c.ID <= after })
		g.Add(later)
		return err
	})
	return g, err
}

// tableSerials puts the serials of zones that are in the tables into a map, by the zone's ID.
func tableSerials(ctx context.Context, tx pgx.Tx, into map[int64]uint32) error {
	rows, err := tx.Query(ctx, `SELECT id, serial FROM zone`)
	if err != nil {
		return err
	}
	var zone, serial int64
	_, err = pgx.ForEachRow(rows, []any{&zone, &serial}, func() error { into[zone] = uint32(serial); return nil })
	return err
}
