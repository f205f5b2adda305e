package store

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jmoiron/sqlx"
)

// Without reports that something cannot be brought back because what it belongs to is not on record: Removed is what has to be brought back
// first, 0 where that is gone for good.
type Without struct {
	Kind, Name   string
	Needs, Named string // kind and name of what is missing
	Removed      int64
}

func (e Without) Error() string {
	if e.Removed == 0 {
		return fmt.Sprintf("%s %q cannot be brought back: the %s that it belongs to is gone for good", e.Kind, e.Name, e.Needs)
	}
	return fmt.Sprintf("%s %q belongs to %s %q, which was removed as well; bring that back first: inkpost restore %d", e.Kind, e.Name,
		e.Needs, e.Named, e.Removed)
}

// Restore puts something that was removed back on record, with the IDs that it had, and raises the serial of every zone that gets a name
// back. Rows of it that belong to something that is gone meanwhile, such as a person, are left out. Errors: Missing where it is not known,
// or no longer; Without; Taken where something else has its name; site.Flaws where a service has its port.
func (s *Store) Restore(ctx context.Context, id int64, now time.Time) (out Removed, err error) {
	err = s.inTx(ctx, func(tx *sqlx.Tx) error {
		var r removedRow
		if err := tx.GetContext(ctx, &r, removedColumns+` WHERE id = $1 AND until > $2 FOR UPDATE`, id, now); err != nil {
			return explained(err, "removal", "id", fmt.Sprint(id))
		}
		out = r.value()
		refs, err := references(ctx, tx)
		if err != nil {
			return err
		}
		if err := belongs(ctx, tx, out, refs); err != nil {
			return err
		}
		var relations []string
		if err := tx.SelectContext(ctx, &relations, `SELECT DISTINCT relation FROM removed_row WHERE removed_id = $1`, id); err != nil {
			return err
		}
		for _, relation := range inOrder(relations, refs) {
			if err := putBack(ctx, tx, out, relation, refs); err != nil {
				return err
			}
		}
		if err := fits(ctx, tx, out); err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, `DELETE FROM removed WHERE id = $1`, id)
		return err
	})
	return out, err
}

// belongs makes sure that what the removed row itself refers to is on record.
func belongs(ctx context.Context, tx *sqlx.Tx, r Removed, refs []reference) error {
	for _, of := range refs {
		if of.Child != r.Kind || !of.Along {
			continue
		}
		var gone []int64
		if err := tx.SelectContext(ctx, &gone, `SELECT (doc->>$3)::bigint FROM removed_row WHERE removed_id = $1 AND relation = $2
			AND (doc->>$4)::bigint = $5 AND doc->>$3 IS NOT NULL
			AND NOT EXISTS (SELECT FROM `+of.Parent+` p WHERE p.id::text = doc->>$3)`, r.ID, r.Kind, of.Column, "id", r.Ref); err != nil {
			return err
		}
		if len(gone) == 0 {
			continue
		}
		e := Without{Kind: r.Kind, Name: r.Name, Needs: of.Parent}
		var first []removedRow
		if err := tx.SelectContext(ctx, &first, removedColumns+` WHERE kind = $1 AND ref = $2`, of.Parent, gone[0]); err != nil {
			return err
		}
		if len(first) > 0 {
			e.Removed, e.Named = first[0].ID, first[0].Name
		}
		return e
	}
	return nil
}

// inOrder sorts tables so that each comes after those that it refers to.
func inOrder(relations []string, refs []reference) (out []string) {
	slices.Sort(relations)
	for len(out) < len(relations) {
		before := len(out)
		for _, r := range relations {
			waits := slices.Contains(out, r) || slices.ContainsFunc(refs, func(of reference) bool {
				return of.Child == r && of.Parent != r && slices.Contains(relations, of.Parent) && !slices.Contains(out, of.Parent)
			})
			if !waits {
				out = append(out, r)
			}
		}
		if len(out) == before {
			panic("store: tables refer to each other in a circle: " + strings.Join(relations, ", "))
		}
	}
	return out
}

// putBack inserts the rows of one table. A column that the schema got since takes its default.
func putBack(ctx context.Context, tx *sqlx.Tx, r Removed, relation string, refs []reference) error {
	var columns []string
	if err := tx.SelectContext(ctx, &columns, `SELECT a.attname FROM pg_attribute a WHERE a.attrelid = $2::text::regclass AND a.attnum > 0
		AND NOT a.attisdropped AND a.attgenerated = '' AND EXISTS (SELECT FROM removed_row r WHERE r.removed_id = $1 AND r.relation =
			$2::text
			AND r.doc ? a.attname) ORDER BY a.attnum`, r.ID, relation); err != nil {
		return err
	}
	var into, from, where []string
	for _, c := range columns {
		c = pgx.Identifier{c}.Sanitize()
		into, from = append(into, c), append(from, "t."+c)
	}
	for _, of := range refs {
		if of.Child != relation {
			continue
		}
		parent := `EXISTS (SELECT FROM ` + of.Parent + ` p WHERE p.` + of.ParentColumn + ` = t.` + of.Column + `)`
		switch i := slices.Index(into, pgx.Identifier{of.Column}.Sanitize()); {
		case of.Along && of.Parent != relation:
			where = append(where, `(t.`+of.Column+` IS NULL OR `+parent+`)`)
		case !of.Along && i >= 0:
			from[i] = `CASE WHEN ` + parent + ` THEN t.` + of.Column + ` END`
		}
	}
	statement := `INSERT INTO ` + relation + ` (` + strings.Join(into, ", ") + `) OVERRIDING SYSTEM VALUE SELECT ` + strings.Join(from,
		", ") +
		` FROM removed_row r, jsonb_populate_record(NULL::` + relation + `, r.doc) t WHERE r.removed_id = $1 AND r.relation = $2`
	if len(where) > 0 {
		statement += ` AND ` + strings.Join(where, " AND ")
	}
	_, err := tx.ExecContext(ctx, statement, r.ID, relation)
	return takenMeanwhile(err)
}

var duplicateKey = regexp.MustCompile(`^Key \((?:.*, )?(\w+)\)=\((?:.*, )?(.+)\) already exists`)

// takenMeanwhile says whose name somebody else has by now.
func takenMeanwhile(err error) error {
	var pg *pgconn.PgError
	if errors.As(err, &pg) && pg.Code == "23505" {
		if m := duplicateKey.FindStringSubmatch(pg.Detail); m != nil {
			return Taken{Kind: pg.TableName, Field: m[1], Name: m[2]}
		}
	}
	return err
}

// fits refuses a service whose port another one of its site has by now, and raises the serials of the zones that get a name back.
func fits(ctx context.Context, tx *sqlx.Tx, r Removed) error {
	switch r.Kind {
	case "service":
		var locked int64
		if err := tx.GetContext(ctx, &locked, `SELECT id FROM site WHERE id = $1 FOR UPDATE`, r.SiteID); err != nil {
			return err
		}
		list, err := services(ctx, tx, r.SiteID)
		if err != nil {
			return err
		}
		for _, s := range list {
			if s.ID == r.Ref {
				return conflicts(ctx, tx, s)
			}
		}
	case "link":
		return bumpWithout(ctx, tx, `h.site_id = $1`, r.SiteID, map[int64]uint32{})
	case "site":
		return bumpWithout(ctx, tx, `h.site_id = $1`, r.Ref, map[int64]uint32{})
	case "hostname":
		return bumpWithout(ctx, tx, `h.id = $1`, r.Ref, map[int64]uint32{})
	}
	return nil
}
