package store

import (
	"context"
	"strconv"
	"time"

	"inkpost.example/inkpost/internal/core/site"
)

// Contacts lists the contacts of a site, by role and name.
func (s *Store) Contacts(ctx context.Context, siteID int64) ([]site.Contact, error) {
	var rows []struct {
		ID       int64  `db:"id"`
		SiteID   int64  `db:"site_id"`
		Role     string `db:"role"`
		Name     string `db:"name"`
		Phone    string `db:"phone"`
		Mail     string `db:"mail"`
		Note     string `db:"note"`
		Revision int64  `db:"revision"`
	}
	err := s.selectOf(ctx, &rows, `SELECT id, site_id, role, name, phone, mail, note, revision FROM site_contact`, "site_id", siteID,
		"role, name, id")
	out := make([]site.Contact, len(rows))
	for i, r := range rows {
		out[i] = site.Contact(r)
	}
	return out, err
}

// maxContacts is how many contacts a site may have.
const maxContacts = 50

// AddContact records a contact of a site and returns its ID. Error: site.Flaws where it has too many.
func (s *Store) AddContact(ctx context.Context, c site.Contact) (id int64, err error) {
	err = s.db.GetContext(ctx, &id, `INSERT INTO site_contact (site_id, role, name, phone, mail, note)
		SELECT $1, $2, $3, $4, $5, $6 WHERE (SELECT count(*) FROM site_contact WHERE site_id = $1) < $7 RETURNING id`, c.SiteID, c.Role,
		c.Name, c.Phone, c.Mail, c.Note, maxContacts)
	if _, missing := explained(err, "", "", "").(Missing); missing {
		return 0, site.Flaws{{Field: "name", Detail: "the site has " + strconv.Itoa(maxContacts) + " contacts already; remove one first"}}
	}
	return id, err
}

// EditContact writes a contact that is still of its revision. Error: Missing where it is gone, or another revision by now.
func (s *Store) EditContact(ctx context.Context, c site.Contact) error {
	r, err := s.db.ExecContext(ctx, `UPDATE site_contact SET role = $4, name = $5, phone = $6, mail = $7, note = $8, revision = revision + 1
		WHERE id = $1 AND site_id = $2 AND revision = $3`, c.ID, c.SiteID, c.Revision, c.Role, c.Name, c.Phone, c.Mail, c.Note)
	return affected(r, err, "contact", "id", strconv.FormatInt(c.ID, 10))
}

// RemoveContact removes a contact of a site. Error: Missing.
func (s *Store) RemoveContact(ctx context.Context, siteID, id int64) error {
	r, err := s.db.ExecContext(ctx, `DELETE FROM site_contact WHERE site_id = $1 AND id = $2`, siteID, id)
	return affected(r, err, "contact", "id", strconv.FormatInt(id, 10))
}

// SiteNote is what somebody wrote down of a site at a visit.
type SiteNote struct {
	ID    int64
	At    time.Time
	By    string
	Words string
}

// SiteNotes lists the notes of a site, the newest first.
func (s *Store) SiteNotes(ctx context.Context, siteID int64, limit int) ([]SiteNote, error) {
	var rows []struct {
		ID    int64  `db:"id"`
		At    when   `db:"at"`
		By    string `db:"person"`
		Words string `db:"words"`
	}
	err := s.db.SelectContext(ctx, &rows, `SELECT id, at, person, words FROM site_note WHERE site_id = $1 ORDER BY at DESC, id DESC LIMIT
		$2`,
		siteID, limit)
	out := make([]SiteNote, len(rows))
	for i, r := range rows {
		out[i] = SiteNote{r.ID, r.At.Time, r.By, r.Words}
	}
	return out, err
}

// AddSiteNote records a note of a site and returns its ID.
func (s *Store) AddSiteNote(ctx context.Context, siteID int64, n SiteNote) (id int64, err error) {
	err = s.db.GetContext(ctx, &id, `INSERT INTO site_note (site_id, at, person, words) VALUES ($1, $2, $3, $4) RETURNING id`, siteID, n.At,
		n.By, n.Words)
	return id, err
}

// RemoveSiteNote removes a note of a site. Error: Missing.
func (s *Store) RemoveSiteNote(ctx context.Context, siteID, id int64) error {
	r, err := s.db.ExecContext(ctx, `DELETE FROM site_note WHERE site_id = $1 AND id = $2`, siteID, id)
	return affected(r, err, "note", "id", strconv.FormatInt(id, 10))
}

// Photo is a picture of a site. Kind is its media type; Image is empty in lists.
type Photo struct {
	ID            int64
	At            time.Time
	By            string
	Caption       string
	Kind          string
	Width, Height int
	Bytes         int
	Image         []byte
}

type photoRow struct {
	ID      int64  `db:"id"`
	At      when   `db:"at"`
	By      string `db:"person"`
	Caption string `db:"caption"`
	Kind    string `db:"kind"`
	Width   int    `db:"width"`
	Height  int    `db:"height"`
	Bytes   int    `db:"bytes"`
	Image   []byte `db:"image"`
}

const photoColumns = `SELECT id, at, person, caption, kind, width, height, length(image) AS bytes`

// Photos lists the pictures of a site, the newest first.
func (s *Store) Photos(ctx context.Context, siteID int64) ([]Photo, error) {
	var rows []photoRow
	err := s.db.SelectContext(ctx, &rows, photoColumns+`, ''::bytea AS image FROM site_photo WHERE site_id = $1 ORDER BY at DESC, id DESC`,
		siteID)
	out := make([]Photo, len(rows))
	for i, r := range rows {
		out[i] = Photo{r.ID, r.At.Time, r.By, r.Caption, r.Kind, r.Width, r.Height, r.Bytes, nil}
	}
	return out, err
}

// Photo returns a picture of a site. Error: Missing.
func (s *Store) Photo(ctx context.Context, siteID, id int64) (Photo, error) {
	var r photoRow
	err := s.db.GetContext(ctx, &r, photoColumns+`, image FROM site_photo WHERE site_id = $1 AND id = $2`, siteID, id)
	return Photo{r.ID, r.At.Time, r.By, r.Caption, r.Kind, r.Width, r.Height, r.Bytes, r.Image},
		explained(err, "photo", "id", strconv.FormatInt(id, 10))
}

// MaxPhotos is how many pictures a site may have.
const MaxPhotos = 100

// AddPhoto records a picture of a site and returns its ID. Error: site.Flaws where it has too many.
func (s *Store) AddPhoto(ctx context.Context, siteID int64, p Photo) (id int64, err error) {
	err = s.db.GetContext(ctx, &id, `INSERT INTO site_photo (site_id, at, person, caption, kind, width, height, image)
		SELECT $1, $2, $3, $4, $5, $6, $7, $8 WHERE (SELECT count(*) FROM site_photo WHERE site_id = $1) < $9 RETURNING id`, siteID, p.At,
		p.By, p.Caption, p.Kind, p.Width, p.Height, p.Image, MaxPhotos)
	if _, missing := explained(err, "", "", "").(Missing); missing {
		return 0, site.Flaws{{Field: "photo", Detail: "the site has " + strconv.Itoa(MaxPhotos) + " photos already; remove one first"}}
	}
	return id, err
}

// RemovePhoto removes a picture of a site. Error: Missing.
func (s *Store) RemovePhoto(ctx context.Context, siteID, id int64) error {
	r, err := s.db.ExecContext(ctx, `DELETE FROM site_photo WHERE site_id = $1 AND id = $2`, siteID, id)
	return affected(r, err, "photo", "id", strconv.FormatInt(id, 10))
}
