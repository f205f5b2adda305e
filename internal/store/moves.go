package store

import (
	"context"
	"net/netip"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgtype"

	"inkpost.example/inkpost/internal/core/wan"
)

// Move is one WAN address change with the time of each stage; a stage that did not happen is zero.
type Move struct {
	ID, SiteID, LinkID                                                int64
	Site, Link                                                        string
	Old, New                                                          wan.Pair
	Source                                                            wan.Source
	Noticed, Received, Recorded, Published, Answered, Seen, Confirmed time.Time
	Zones                                                             []ZoneTime
}

// ZoneTime is when a remote zone's primary took a move.
type ZoneTime struct {
	Zone string    `json:"zone"`
	At   time.Time `json:"at"`
}

// Stages are the times to write into a move; zero ones are left as they are. With a ZoneID, Published is when that remote
// zone's primary took it.
type Stages struct {
	MoveID, ZoneID                                 int64
	Recorded, Published, Answered, Seen, Confirmed time.Time
}

// merged puts the stages of one move together: a statement may change a row only once. Where a remote zone's primary took a
// move, that is another matter (NotePublished).
func merged(list []Stages) map[int64]Stages {
	out := make(map[int64]Stages, len(list))
	for _, s := range list {
		if s.ZoneID != 0 {
			continue
		}
		m := out[s.MoveID]
		m.MoveID = s.MoveID
		for _, f := range []struct{ to, from *time.Time }{{&m.Recorded, &s.Recorded}, {&m.Published, &s.Published},
			{&m.Answered, &s.Answered}, {&m.Seen, &s.Seen}, {&m.Confirmed, &s.Confirmed}} {
			if !f.from.IsZero() {
				*f.to = *f.from
			}
		}
		out[s.MoveID] = m
	}
	return out
}

// queueStages writes the stages of many moves in one statement.
func queueStages(together *pgx.Batch, list []Stages) {
	ids := make([]int64, len(list))
	for i, s := range list {
		ids[i] = s.MoveID
	}
	together.Queue(`UPDATE move SET recorded_at = coalesce(t.recorded, recorded_at), published_at = coalesce(t.published, published_at),
		answered_at = coalesce(t.answered, answered_at), seen_at = coalesce(t.seen, seen_at), confirmed_at = coalesce(t.confirmed,
			confirmed_at)
		FROM unnest($1::bigint[], $2::timestamptz[], $3::timestamptz[], $4::timestamptz[], $5::timestamptz[], $6::timestamptz[])
			AS t(id, recorded, published, answered, seen, confirmed)
		WHERE move.id = t.id`, append([]any{ids}, stageColumns(list)...)...)
}

// stageColumns returns the five times of each of a list of stages as the arrays of a statement.
func stageColumns(list []Stages) []any {
	var columns [5]pgtype.FlatArray[*time.Time]
	for i := range columns {
		columns[i] = make(pgtype.FlatArray[*time.Time], len(list))
	}
	for i := range list {
		s := &list[i]
		for at, t := range []*time.Time{&s.Recorded, &s.Published, &s.Answered, &s.Seen, &s.Confirmed} {
			if !t.IsZero() {
				columns[at][i] = t
			}
		}
	}
	return []any{columns[0], columns[1], columns[2], columns[3], columns[4]}
}

// MoveFilter narrows a list of moves. Zero fields do not narrow. Before is a move ID: only older ones are listed. Since and
// Until bound when a move was noticed; Address is one that it left or came to; Unfinished leaves out those whose services
// are all confirmed.
type MoveFilter struct {
	SiteID, LinkID, Before int64
	SiteIDs                []int64 // where it is not nil: the only sites
	Since, Until           time.Time
	Source                 wan.Source
	Address                netip.Addr
	Unfinished             bool
	Limit                  int
}

// Moves lists moves, the newest first.
func (s *Store) Moves(ctx context.Context, f MoveFilter) ([]Move, error) {
	var rows []struct {
		ID        int64          `db:"id"`
		SiteID    int64          `db:"site_id"`
		LinkID    int64          `db:"link_id"`
		Site      string         `db:"site"`
		Link      string         `db:"link"`
		Old4      inet           `db:"old4"`
		Old6      inet           `db:"old6"`
		New4      inet           `db:"new4"`
		New6      inet           `db:"new6"`
		Source    wan.Source     `db:"source"`
		Noticed   when           `db:"noticed_at"`
		Received  when           `db:"received_at"`
		Recorded  when           `db:"recorded_at"`
		Published when           `db:"published_at"`
		Answered  when           `db:"answered_at"`
		Seen      when           `db:"seen_at"`
		Confirmed when           `db:"confirmed_at"`
		Zones     list[ZoneTime] `db:"zones"`
	}
	var w where
	w.and(f.SiteID != 0, "site_id = $", f.SiteID)
	w.and(f.LinkID != 0, "link_id = $", f.LinkID)
	w.and(f.Before != 0, "id < $", f.Before)
	w.and(!f.Since.IsZero(), "noticed_at >= $", f.Since)
	w.and(!f.Until.IsZero(), "noticed_at < $", f.Until)
	w.and(f.Source != "", "source = $", f.Source)
	w.and(f.Address.IsValid(), "$ IN (old_ipv4, old_ipv6, new_ipv4, new_ipv6)", inet{f.Address})
	w.and(f.Unfinished, "(confirmed_at IS NULL) = $", true)
	w.and(f.SiteIDs != nil, "site_id = ANY($)", f.SiteIDs)
	// A few moves are shown, of thousands of sites: each looks its own up, instead of all being read (OFFSET keeps the planner from that).
	newest := `SELECT * FROM move` + w.String() + ` ORDER BY id DESC LIMIT ` + w.argument(f.Limit)
	err := s.db.SelectContext(ctx, &rows, `WITH m AS (`+newest+`) SELECT m.id, m.site_id, m.link_id, s.code AS site, l.label AS link,
		host(m.old_ipv4) AS old4, host(m.old_ipv6) AS old6,
			host(m.new_ipv4) AS new4, host(m.new_ipv6) AS new6, m.source, m.noticed_at, m.received_at, m.recorded_at,
				m.published_at, m.answered_at, m.seen_at, m.confirmed_at,
			coalesce((SELECT json_agg(json_build_object('zone', z.apex, 'at', mz.published_at) ORDER BY z.apex) FROM move_zone mz
				JOIN zone z ON z.id = mz.zone_id
				WHERE mz.move_id = m.id), '[]') AS zones
		FROM m JOIN LATERAL (SELECT code FROM site WHERE id = m.site_id OFFSET 0) s ON true
			JOIN LATERAL (SELECT label FROM link WHERE id = m.link_id OFFSET 0) l ON true ORDER BY m.id DESC`, w.args...)
	out := make([]Move, len(rows))
	for i, r := range rows {
		out[i] = Move{ID: r.ID, SiteID: r.SiteID, LinkID: r.LinkID, Site: r.Site, Link: r.Link,
			Old: wan.Pair{IPv4: r.Old4.Addr, IPv6: r.Old6.Addr}, New: wan.Pair{IPv4: r.New4.Addr, IPv6: r.New6.Addr}, Source: r.Source,
			Noticed: r.Noticed.Time, Received: r.Received.Time, Recorded: r.Recorded.Time, Published: r.Published.Time,
			Answered: r.Answered.Time, Seen: r.Seen.Time, Confirmed: r.Confirmed.Time, Zones: r.Zones}
	}
	return out, err
}

// Unfinished is a move that has not reached all of its stages.
type Unfinished struct {
	ID       int64 `db:"id"`
	SiteID   int64 `db:"site_id"`
	LinkID   int64 `db:"link_id"`
	Received when  `db:"received_at"`

	Published bool `db:"published"`
	Answered  bool `db:"answered"`
	Seen      bool `db:"seen"`
	Confirmed bool `db:"confirmed"`
}

// Unfinished lists, for each link, its newest move where that lacks a stage and was received after since, so that a restarted
// server can finish it. An older one was given up: what is proven now proves nothing of it.
func (s *Store) Unfinished(ctx context.Context, since time.Time) ([]Unfinished, error) {
	var out []Unfinished
	err := s.db.SelectContext(ctx, &out, `SELECT id, site_id, link_id, received_at, published_at IS NOT NULL AS published,
		answered_at IS NOT NULL AS answered,
			seen_at IS NOT NULL AS seen, confirmed_at IS NOT NULL AS confirmed
		FROM (SELECT DISTINCT ON (link_id) * FROM move WHERE received_at > $1 ORDER BY link_id, id DESC) newest
		WHERE published_at IS NULL OR answered_at IS NULL OR seen_at IS NULL OR confirmed_at IS NULL`, since)
	return out, err
}

// Takes reports whether the filter lets a move through; Unfinished is not checked.
func (f MoveFilter) Takes(m Move) bool {
	has := func(a netip.Addr) bool {
		return a == m.Old.IPv4 || a == m.Old.IPv6 || a == m.New.IPv4 || a == m.New.IPv6
	}
	return (f.SiteID == 0 || m.SiteID == f.SiteID) && (f.SiteIDs == nil || slices.Contains(f.SiteIDs, m.SiteID)) && (f.LinkID == 0 ||
		m.LinkID == f.LinkID) && (f.Before == 0 || m.ID < f.Before) &&
		(f.Since.IsZero() || !m.Noticed.Before(f.Since)) && (f.Until.IsZero() || m.Noticed.Before(f.Until)) &&
		(f.Source == "" || m.Source == f.Source) && (!f.Address.IsValid() || has(f.Address))
}

// With returns the move with stages that it has reached since. Only the table knows which remote zones have it.
func (m Move) With(s Stages) Move {
	if s.ZoneID != 0 {
		return m
	}
	for _, f := range []struct{ to, from *time.Time }{{&m.Recorded, &s.Recorded}, {&m.Published, &s.Published},
		{&m.Answered, &s.Answered}, {&m.Seen, &s.Seen}, {&m.Confirmed, &s.Confirmed}} {
		if !f.from.IsZero() {
			*f.to = *f.from
		}
	}
	return m
}

// NewestMove is the ID of the newest move that is settled; 0 if there is none.
func (s *Store) NewestMove(ctx context.Context) (id int64, err error) {
	err = s.db.GetContext(ctx, &id, `SELECT coalesce(max(id), 0) FROM move`)
	return id, err
}

// ChangeTimes returns when each link changed its address since a time, the oldest first, and of each the newest few only.
func (s *Store) ChangeTimes(ctx context.Context, since time.Time, few int) (map[int64][]time.Time, error) {
	var rows []struct {
		LinkID int64 `db:"link_id"`
		At     when  `db:"noticed_at"`
	}
	err := s.db.SelectContext(ctx, &rows, `SELECT link_id, noticed_at
		FROM (SELECT link_id, noticed_at, row_number() OVER (PARTITION BY link_id ORDER BY id DESC) AS n
		FROM move WHERE noticed_at >= $1) m WHERE n <= $2 ORDER BY link_id, noticed_at`, since, few)
	out := map[int64][]time.Time{}
	for _, r := range rows {
		out[r.LinkID] = append(out[r.LinkID], r.At.Time)
	}
	return out, err
}
