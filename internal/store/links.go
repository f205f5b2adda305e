package store

import (
	"context"
	"maps"
	"slices"
	"time"

	"github.com/jmoiron/sqlx"

	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/core/wan"
)

type linkRow struct {
	ID       int64            `db:"id"`
	SiteID   int64            `db:"site_id"`
	Label    string           `db:"label"`
	Provider string           `db:"provider"`
	Mode     site.Mode        `db:"mode"`
	Position int              `db:"position"`
	IPv4     inet             `db:"ipv4"`
	IPv6     inet             `db:"ipv6"`
	Source   wan.Source       `db:"source"`
	Since    when             `db:"since_at"`
	Heard    when             `db:"heard_at"`
	Agent    bool             `db:"agent"`
	ChangeAt when             `db:"change_at"`
	From     inet             `db:"dynamic_from"`
	To       inet             `db:"dynamic_to"`
	Router   inet             `db:"router_address"`
	Sources  list[wan.Source] `db:"sources"`
	Failing  bool             `db:"failing"`
	MayMap   bool             `db:"may_map"`
	Contract string           `db:"contract"`
	Revision int64            `db:"revision"`
}

func (r linkRow) link() site.Link {
	return site.Link{ID: r.ID, SiteID: r.SiteID, Label: r.Label, Provider: r.Provider, Mode: r.Mode, Position: r.Position,
		IPv4: r.IPv4.Addr, IPv6: r.IPv6.Addr, Source: r.Source, Since: r.Since.Time, Heard: r.Heard.Time, Agent: r.Agent,
		ChangeAt:  r.ChangeAt.Time,
		RouterWAN: r.Router.Addr, Sources: r.Sources, Dynamic: site.RangeOf(r.From.Addr, r.To.Addr), Failing: r.Failing,
		MayMap: r.MayMap, Contract: r.Contract, Revision: r.Revision}
}

const linkColumns = `SELECT l.id, l.site_id, l.label, l.provider, l.mode, l.position, host(l.ipv4) AS ipv4, host(l.ipv6) AS ipv6,
	l.source, l.since_at, l.heard_at, l.change_at, host(l.router_address) AS router_address, host(l.dynamic_from) AS dynamic_from,
		host(l.dynamic_to) AS dynamic_to, l.sources, l.failing, l.may_map, l.contract, l.revision,
	EXISTS (SELECT FROM access_key k WHERE k.link_id = l.id AND k.scope = 'agent' AND k.revoked_at IS NULL) AS agent
	FROM link l`

// Links lists the links of a site by preference; siteID 0 lists those of all sites.
func (s *Store) Links(ctx context.Context, siteID int64) ([]site.Link, error) {
	var rows []linkRow
	err := s.selectOf(ctx, &rows, linkColumns, "l.site_id", siteID, "l.site_id, l.position, l.label")
	out := make([]site.Link, len(rows))
	for i, r := range rows {
		out[i] = r.link()
	}
	return out, err
}

// Link finds a link of a site by its label.
func (s *Store) Link(ctx context.Context, siteID int64, label string) (site.Link, error) {
	var r linkRow
	err := s.db.GetContext(ctx, &r, linkColumns+` WHERE l.site_id = $1 AND l.label = lower($2)`, siteID, label)
	return r.link(), explained(err, "link", "label", label)
}

// AddLink records a link and returns its ID. Addresses are not recorded here: they come by Settle.
func (s *Store) AddLink(ctx context.Context, in site.Link) (int64, error) {
	var id int64
	from, to := in.Dynamic.Ends()
	err := s.db.GetContext(ctx, &id, `INSERT INTO link (site_id, label, provider, mode, position, change_at, router_address,
		sources, dynamic_from, dynamic_to, may_map, contract) VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12) RETURNING id`,
		in.SiteID, in.Label, in.Provider, in.Mode, in.Position, when{in.ChangeAt}, inet{in.RouterWAN}, list[wan.Source](in.Sources),
		inet{from}, inet{to}, in.MayMap, in.Contract)
	return id, explained(err, "link", "label", in.Label)
}

// EditLink writes the link's own fields by its ID; its addresses stay.
func (s *Store) EditLink(ctx context.Context, in site.Link) error {
	from, to := in.Dynamic.Ends()
	r, err := s.db.ExecContext(ctx, `UPDATE link SET label = $2, provider = $3, mode = $4, position = $5, change_at = $6,
		router_address = $7, sources = $8, dynamic_from = $9, dynamic_to = $10, may_map = $11, contract = $12, revision = revision + 1
			WHERE id = $1`,
		in.ID, in.Label, in.Provider, in.Mode, in.Position, when{in.ChangeAt}, inet{in.RouterWAN}, list[wan.Source](in.Sources),
		inet{from}, inet{to}, in.MayMap, in.Contract)
	return affected(r, err, "link", "label", in.Label)
}

// NoteFailing records which links are down, and raises the serials of the zones whose answers change with it. It returns those.
func (s *Store) NoteFailing(ctx context.Context, failing map[int64]bool, zones []int64) (serials map[int64]uint32, err error) {
	for _, id := range slices.Sorted(maps.Keys(failing)) {
		if _, err := s.db.ExecContext(ctx, `UPDATE link SET failing = $2 WHERE id = $1`, id, failing[id]); err != nil {
			return nil, err
		}
	}
	return s.BumpSerials(ctx, zones)
}

// RemoveLink removes a link that no hostname and no service names. Restore brings it back.
func (s *Store) RemoveLink(ctx context.Context, l site.Link, by Removal) error {
	return s.inTx(ctx, func(tx *sqlx.Tx) error {
		if err := setAside(ctx, tx, "link", l.ID, l.SiteID, l.Label, by); err != nil {
			return err
		}
		r, err := tx.ExecContext(ctx, `DELETE FROM link WHERE id = $1`, l.ID)
		return affected(r, err, "link", "label", l.Label)
	})
}

// Rows of links are always changed in the order of their IDs, so that two statements do not wait for each other.

// Hear notes in one statement when each link was last heard.
func (s *Store) Hear(ctx context.Context, heard map[int64]time.Time) error {
	ids := slices.Sorted(maps.Keys(heard))
	times := make([]time.Time, 0, len(heard))
	for _, id := range ids {
		times = append(times, heard[id])
	}
	return s.soon(ctx, `UPDATE link SET heard_at = t.at
		FROM unnest($1::bigint[], $2::timestamptz[]) AS t(id, at) WHERE link.id = t.id AND (heard_at IS NULL OR heard_at < t.at)`,
		ids, times)
}

// LinkReports returns what agents reported last, as JSON, by link.
func (s *Store) LinkReports(ctx context.Context) (map[int64][]byte, error) {
	var rows []struct {
		ID  int64  `db:"id"`
		Doc []byte `db:"report"`
	}
	err := s.db.SelectContext(ctx, &rows, `SELECT id, report FROM link WHERE report IS NOT NULL`)
	out := make(map[int64][]byte, len(rows))
	for _, r := range rows {
		out[r.ID] = r.Doc
	}
	return out, err
}

// NoteLinkReports writes what agents reported last.
func (s *Store) NoteLinkReports(ctx context.Context, docs map[int64][]byte) error {
	ids := slices.Sorted(maps.Keys(docs))
	list := make([]string, 0, len(docs))
	for _, id := range ids {
		list = append(list, string(docs[id]))
	}
	return s.soon(ctx, `UPDATE link SET report = t.doc FROM unnest($1::bigint[], $2::jsonb[]) AS t(id, doc) WHERE link.id = t.id`,
		ids, list)
}
