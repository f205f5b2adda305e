package store

import (
	"context"
	"strconv"
	"time"

	"github.com/jmoiron/sqlx"
)

// SheetVersion is a sheet as it was kept. Doc is its JSON, nil in lists.
type SheetVersion struct {
	Version int
	At      time.Time
	By      string
	Reason  string
	Doc     []byte
}

type sheetRow struct {
	Version int    `db:"version"`
	At      when   `db:"at"`
	By      string `db:"person"`
	Reason  string `db:"reason"`
	Doc     []byte `db:"doc"`
}

func (r sheetRow) value() SheetVersion {
	return SheetVersion{r.Version, r.At.Time, r.By, r.Reason, r.Doc}
}

// Sheets lists the versions of a site's sheet, the newest first.
func (s *Store) Sheets(ctx context.Context, siteID int64) ([]SheetVersion, error) {
	var rows []sheetRow
	err := s.db.SelectContext(ctx, &rows, `SELECT version, at, person, reason, NULL::jsonb AS doc FROM sheet WHERE site_id = $1
		ORDER BY version DESC LIMIT 1000`, siteID)
	out := make([]SheetVersion, len(rows))
	for i, r := range rows {
		out[i] = r.value()
	}
	return out, err
}

// Sheet returns a version of a site's sheet, or the newest where version is 0. Error: Missing.
func (s *Store) Sheet(ctx context.Context, siteID int64, version int) (SheetVersion, error) {
	var r sheetRow
	err := s.db.GetContext(ctx, &r, `SELECT version, at, person, reason, doc FROM sheet WHERE site_id = $1 AND ($2 = 0 OR version = $2)
		ORDER BY version DESC LIMIT 1`, siteID, version)
	return r.value(), explained(err, "version of the sheet", "version", strconv.Itoa(version))
}

// KeepSheet records a version of a site's sheet and returns its number. Error: Missing for a site that is gone.
func (s *Store) KeepSheet(ctx context.Context, siteID int64, v SheetVersion) (version int, err error) {
	err = s.inTx(ctx, func(tx *sqlx.Tx) error {
		var locked int64 // two who keep one at once keep two
		if err := tx.GetContext(ctx, &locked, `SELECT id FROM site WHERE id = $1 FOR UPDATE`, siteID); err != nil {
			return explained(err, "site", "id", strconv.FormatInt(siteID, 10))
		}
		return tx.GetContext(ctx, &version, `INSERT INTO sheet (site_id, version, at, person, reason, doc)
			SELECT $1, coalesce(max(version), 0) + 1, $2, $3, $4, $5 FROM sheet WHERE site_id = $1 RETURNING version`, siteID, v.At, v.By,
			v.Reason, v.Doc)
	})
	return version, err
}

// SheetLink is a customer's way to read the sheet. Hash is that of its secret.
type SheetLink struct {
	ID      int64
	SiteID  int64
	Whose   string
	Created time.Time
	By      string
	Expires time.Time
	Revoked time.Time
	Used    time.Time
}

type sheetLinkRow struct {
	ID      int64  `db:"id"`
	SiteID  int64  `db:"site_id"`
	Whose   string `db:"whose"`
	Created when   `db:"created_at"`
	By      string `db:"created_by"`
	Expires when   `db:"expires_at"`
	Revoked when   `db:"revoked_at"`
	Used    when   `db:"used_at"`
}

func (r sheetLinkRow) value() SheetLink {
	return SheetLink{r.ID, r.SiteID, r.Whose, r.Created.Time, r.By, r.Expires.Time, r.Revoked.Time, r.Used.Time}
}

const sheetLinkColumns = `SELECT id, site_id, whose, created_at, created_by, expires_at, revoked_at, used_at FROM sheet_link`

// SheetLinks lists the ways by which customers read a site's sheet, the newest first.
func (s *Store) SheetLinks(ctx context.Context, siteID int64) ([]SheetLink, error) {
	var rows []sheetLinkRow
	err := s.db.SelectContext(ctx, &rows, sheetLinkColumns+` WHERE site_id = $1 ORDER BY created_at DESC LIMIT 1000`, siteID)
	out := make([]SheetLink, len(rows))
	for i, r := range rows {
		out[i] = r.value()
	}
	return out, err
}

// AddSheetLink records a way to read a sheet, by the hash of its secret, and returns its ID.
func (s *Store) AddSheetLink(ctx context.Context, l SheetLink, hash []byte) (id int64, err error) {
	err = s.db.GetContext(ctx, &id, `INSERT INTO sheet_link (site_id, whose, hash, created_at, created_by, expires_at)
		VALUES ($1, $2, $3, $4, $5, $6) RETURNING id`, l.SiteID, l.Whose, hash, l.Created, l.By, l.Expires)
	return id, err
}

// UseSheetLink returns the link of a secret by its hash, if it is valid at a time, and notes that it was used. Error: Missing.
func (s *Store) UseSheetLink(ctx context.Context, hash []byte, now time.Time) (SheetLink, error) {
	var r sheetLinkRow
	err := s.db.GetContext(ctx, &r, sheetLinkColumns+` WHERE hash = $1 AND revoked_at IS NULL AND expires_at > $2`, hash, now)
	if err != nil {
		return SheetLink{}, explained(err, "sheet", "link", "of this URL")
	}
	_, err = s.db.ExecContext(ctx, `UPDATE sheet_link SET used_at = $2 WHERE id = $1`, r.ID, now)
	return r.value(), err
}

// RevokeSheetLink ends a way to read a sheet. Error: Missing.
func (s *Store) RevokeSheetLink(ctx context.Context, siteID, id int64, now time.Time) error {
	r, err := s.db.ExecContext(ctx, `UPDATE sheet_link SET revoked_at = $3 WHERE site_id = $1 AND id = $2 AND revoked_at IS NULL`, siteID,
		id,
		now)
	return affected(r, err, "link to the sheet", "id", strconv.FormatInt(id, 10))
}
