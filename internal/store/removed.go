package store

import (
	"context"
	"time"

	"github.com/jmoiron/sqlx"
)

// Removal says who removes something, when, and until when it can be brought back.
type Removal struct {
	Person    string
	At, Until time.Time
}

// Removed is something that was removed from the record and can be brought back. Ref is the ID that it had there. SiteID is 0 where it is a
// site itself; Tags are those of its site.
type Removed struct {
	ID     int64
	Kind   string // "site", "link", "device", "service" or "hostname"
	Ref    int64
	Name   string
	SiteID int64
	Site   string
	Tags   []string
	Person string
	At     time.Time
	Until  time.Time
}

type removedRow struct {
	ID     int64        `db:"id"`
	Kind   string       `db:"kind"`
	Ref    int64        `db:"ref"`
	Name   string       `db:"name"`
	SiteID ref          `db:"site_id"`
	Site   string       `db:"site"`
	Tags   list[string] `db:"tags"`
	Person string       `db:"person"`
	At     time.Time    `db:"at"`
	Until  time.Time    `db:"until"`
}

func (r removedRow) value() Removed {
	return Removed{ID: r.ID, Kind: r.Kind, Ref: r.Ref, Name: r.Name, SiteID: int64(r.SiteID), Site: r.Site, Tags: r.Tags, Person: r.Person,
		At: r.At.UTC(), Until: r.Until.UTC()}
}

const removedColumns = `SELECT id, kind, ref, name, site_id, site, tags, person, at, until FROM removed`

// RemovedAt lists what can be brought back at a moment, the newest first.
func (s *Store) RemovedAt(ctx context.Context, now time.Time) ([]Removed, error) {
	var rows []removedRow
	err := s.db.SelectContext(ctx, &rows, removedColumns+` WHERE until > $1 ORDER BY at DESC, id DESC`, now)
	out := make([]Removed, len(rows))
	for i, r := range rows {
		out[i] = r.value()
	}
	return out, err
}

// ForgetRemoved removes for good what could be brought back until now. It returns how much that was.
func (s *Store) ForgetRemoved(ctx context.Context, now time.Time) (int64, error) {
	r, err := s.db.ExecContext(ctx, `DELETE FROM removed WHERE until <= $1`, now)
	if err != nil {
		return 0, err
	}
	return r.RowsAffected()
}

// setAside keeps a row of a table, named as its kind is, with every row that goes with it, before it is removed. siteID is the site that it
// is of, 0 for a site itself.
func setAside(ctx context.Context, tx *sqlx.Tx, kind string, id, siteID int64, name string, by Removal) error {
	var kept int64
	if err := tx.GetContext(ctx, &kept, `INSERT INTO removed (kind, ref, name, site_id, site, tags, person, at, until)
		SELECT $1::text, $2::bigint, $3, $4::bigint, s.code, s.tags, $5, $6, $7 FROM site s WHERE s.id = coalesce($4::bigint, $2::bigint)
		RETURNING id`, kind, id, name, ref(siteID), by.Person, by.At, by.Until); err != nil {
		return explained(err, kind, "name", name)
	}
	if _, err := tx.ExecContext(ctx, `INSERT INTO removed_row (removed_id, relation, row_key, doc)
		SELECT $1, $2, t.id::text, to_jsonb(t) FROM `+kind+` t WHERE t.id = $3`, kept, kind, id); err != nil {
		return err
	}
	refs, err := references(ctx, tx)
	if err != nil {
		return err
	}
	// What refers to a row that is kept is kept as well, until nothing is found any more.
	for found := int64(1); found > 0; {
		found = 0
		for _, r := range refs {
			if !r.Along {
				continue
			}
			done, err := tx.ExecContext(ctx, `INSERT INTO removed_row (removed_id, relation, row_key, doc)
				SELECT $1, $2, `+r.ChildKey+`, to_jsonb(t) FROM `+r.Child+` t WHERE t.`+r.Column+`::text IN
					(SELECT doc->>$4 FROM removed_row WHERE removed_id = $1 AND relation = $3)
				ON CONFLICT DO NOTHING`, kept, r.Child, r.Parent, r.ParentColumn)
			if err != nil {
				return err
			}
			n, err := done.RowsAffected()
			if err != nil {
				return err
			}
			found += n
		}
	}
	return nil
}

// reference is a foreign key of one column. Along reports whether a row of Child goes with the row of Parent that it refers to; otherwise
// it stays without it. Names are those of the catalogue: the schema has none that SQL needs quoted.
type reference struct {
	Child        string `db:"child"`
	Column       string `db:"child_column"`
	Parent       string `db:"parent"`
	ParentColumn string `db:"parent_column"`
	Along        bool   `db:"along"`
	ChildKey     string `db:"child_key"` // the primary key of t, a row of Child, as text
}

// references lists the foreign keys of the schema, and that of moves to their link, which a trigger sees to.
func references(ctx context.Context, tx *sqlx.Tx) (out []reference, err error) {
	err = tx.SelectContext(ctx, &out, `SELECT c.conrelid::regclass::text AS child, a.attname AS child_column,
			c.confrelid::regclass::text AS parent, p.attname AS parent_column, c.confdeltype <> 'n' AS along,
			(SELECT string_agg('t.' || k.attname || '::text', ' || '' '' || ' ORDER BY k.attnum) FROM pg_index i JOIN pg_attribute k
				ON k.attrelid = i.indrelid AND k.attnum = ANY(i.indkey) WHERE i.indrelid = c.conrelid AND i.indisprimary) AS child_key
		FROM pg_constraint c JOIN pg_attribute a ON a.attrelid = c.conrelid AND a.attnum = c.conkey[1]
			JOIN pg_attribute p ON p.attrelid = c.confrelid AND p.attnum = c.confkey[1]
		WHERE c.contype = 'f' AND c.conparentid = 0 AND cardinality(c.conkey) = 1 AND c.connamespace = current_schema()::regnamespace
			AND c.conrelid::regclass::text NOT LIKE 'river%'
		ORDER BY child, child_column`)
	return append(out, reference{Child: "move", Column: "link_id", Parent: "link", ParentColumn: "id", Along: true,
		ChildKey: "t.id::text"}), err
}
