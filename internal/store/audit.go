package store

import (
	"context"
	"net/netip"
	"time"

	"github.com/jmoiron/sqlx"
)

// Act is something that somebody did, or tried to do. Status is that of HTTP: below 400 it was done; 0 while it is under way, or where the
// server ended before it knew. Before and After are JSON.
type Act struct {
	ID      int64  `db:"id"`
	At      when   `db:"at"`
	Person  string `db:"person"`
	Key     string `db:"by_key"` // label of the key that it was done with; "" for a session
	Address inet   `db:"address"`
	Kind    string `db:"kind"`
	Words   string `db:"words"`
	SiteID  Ref    `db:"site_id"`
	Site    string `db:"site"`
	Subject string `db:"subject"`
	Before  []byte `db:"before"`
	After   []byte `db:"after"`
	Status  int    `db:"status"`
}

// Ref is a foreign key; 0 is NULL.
type Ref = ref

// From sets from where it was done.
func (a *Act) From(address netip.Addr) { a.Address = inet{address} }

// BeginAct writes that somebody is about to do something, and returns its ID.
func (s *Store) BeginAct(ctx context.Context, a Act) (id int64, err error) {
	err = s.db.GetContext(ctx, &id, `INSERT INTO audit (at, person, by_key, address, kind, words, site_id, site, subject, before)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10) RETURNING id`, a.At, a.Person, a.Key, a.Address, a.Kind, a.Words, a.SiteID, a.Site,
		a.Subject, document(a.Before))
	return id, err
}

// EndAct writes how it ended; one that was not begun is written whole.
func (s *Store) EndAct(ctx context.Context, a Act) error {
	if a.ID == 0 {
		id, err := s.BeginAct(ctx, a)
		if err != nil {
			return err
		}
		a.ID = id
	}
	_, err := s.db.ExecContext(ctx, `UPDATE audit SET status = $2, before = $3, after = $4, site_id = $5, site = $6
		WHERE id = $1 AND status IS NULL`, a.ID, a.Status, document(a.Before), document(a.After), a.SiteID, a.Site)
	return err
}

// document is a JSON column; an empty one is NULL.
func document(doc []byte) *string {
	if len(doc) == 0 {
		return nil
	}
	text := string(doc)
	return &text
}

// ActFilter narrows a list of acts. Zero fields do not narrow. Before is an ID: only older ones are listed. Kind is a kind or its first
// parts; SiteIDs, where it is not nil, are the only sites.
type ActFilter struct {
	Person, Kind string
	SiteID       int64
	SiteIDs      []int64
	AtSites      bool // only what was done at a site
	Since, Until time.Time
	Failed       bool
	Before       int64
	Limit        int
}

// Acts lists what was done, the newest first.
func (s *Store) Acts(ctx context.Context, f ActFilter) (out []Act, err error) {
	var w where
	w.and(f.Person != "", "person = $", f.Person)
	w.and(f.Kind != "", "(kind = $ OR starts_with(kind, $ || '.'))", f.Kind)
	w.and(f.SiteID != 0, "site_id = $", f.SiteID)
	w.and(f.SiteIDs != nil, "site_id = ANY($)", f.SiteIDs)
	w.and(!f.Since.IsZero(), "at >= $", f.Since)
	w.and(!f.Until.IsZero(), "at < $", f.Until)
	w.and(f.Failed, "(coalesce(status, 0) >= 400) = $", true)
	w.and(f.Before != 0, "id < $", f.Before)
	w.and(f.AtSites, "(site_id IS NOT NULL) = $", true)
	err = s.db.SelectContext(ctx, &out, `SELECT id, at, person, by_key, address, kind, words, site_id, site, subject, before, after,
		coalesce(status, 0) AS status FROM audit`+w.String()+` ORDER BY id DESC LIMIT `+w.argument(f.Limit), w.args...)
	return out, err
}

// ForgetActs removes what was done before a moment.
func (s *Store) ForgetActs(ctx context.Context, before time.Time) (n int64, err error) {
	err = s.inTx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `SET LOCAL inkpost.retention = 'on'`); err != nil {
			return err
		}
		r, err := tx.ExecContext(ctx, `DELETE FROM audit WHERE at < $1`, before)
		if err != nil {
			return err
		}
		n, err = r.RowsAffected()
		return err
	})
	return n, err
}
