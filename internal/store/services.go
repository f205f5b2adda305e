package store

import (
	"cmp"
	"context"
	"database/sql/driver"
	"encoding/json"
	"errors"
	"fmt"
	"time"
	"unique"

	"github.com/jmoiron/sqlx"

	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
)

type serviceRow struct {
	ID           int64           `db:"id"`
	SiteID       int64           `db:"site_id"`
	DeviceID     int64           `db:"device_id"`
	LinkID       ref             `db:"link_id"`
	Name         string          `db:"name"`
	Device       string          `db:"device"`
	Link         string          `db:"link"`
	Kind         probe.Kind      `db:"kind"`
	Transport    probe.Transport `db:"transport"`
	ExternalFrom int             `db:"external_from"`
	ExternalTo   int             `db:"external_to"`
	InternalFrom int             `db:"internal_from"`
	Expected     probe.Expected  `db:"expected"`
	Interval     int             `db:"interval_s"`
	Options      options         `db:"options"`
	OpenUntil    when            `db:"open_until"`
	Fingerprint  string          `db:"fingerprint"`
	Pinned       when            `db:"pinned_at"`
	PinnedBy     string          `db:"pinned_by"`
	ProbeKey     string          `db:"probe_key"`
	OnRouter     bool            `db:"on_router"`
	Revision     int64           `db:"revision"`
	Reach        site.Reach      `db:"reach"`
	InUse        bool            `db:"in_use"`
}

// options is a JSON column.
type options struct{ probe.Options }

// Scan implements sql.Scanner.
func (o *options) Scan(v any) error {
	switch v := v.(type) {
	case string:
		return json.Unmarshal([]byte(v), &o.Options)
	case []byte:
		return json.Unmarshal(v, &o.Options)
	}
	return fmt.Errorf("an options column gave %T", v)
}

// Value implements driver.Valuer.
func (o options) Value() (driver.Value, error) {
	doc, err := json.Marshal(o.Options)
	return string(doc), err
}

// once gives equal words the same memory: all services are kept there, and have few words between them.
func once[S ~string](s S) S { return unique.Make(s).Value() }

func (r serviceRow) service() site.Service {
	return site.Service{ID: r.ID, SiteID: r.SiteID, DeviceID: r.DeviceID, LinkID: int64(r.LinkID), Name: once(r.Name),
		Device: once(r.Device),
		Link:   once(r.Link), Kind: once(r.Kind), Transport: once(r.Transport), ExternalFrom: r.ExternalFrom, ExternalTo: r.ExternalTo,
		InternalFrom: r.InternalFrom, Expected: once(r.Expected), Interval: r.Interval, Options: probe.Share(r.Options.Options),
		OpenUntil:   r.OpenUntil.Time,
		Fingerprint: r.Fingerprint, Pinned: r.Pinned.Time, PinnedBy: once(r.PinnedBy), ProbeKey: r.ProbeKey, OnRouter: r.OnRouter,
		Revision: r.Revision, Reach: once(r.Reach), InUse: r.InUse}
}

func reachOf(s site.Service) site.Reach { return cmp.Or(s.Reach, site.ByForward) }

const serviceColumns = `SELECT s.id, s.site_id, s.device_id, s.link_id, s.name, d.name AS device, coalesce(l.label, '') AS link,
	s.kind, s.transport, s.external_from, s.external_to, s.internal_from, s.expected, s.interval_s, s.options, s.open_until,
		s.fingerprint, s.pinned_at, s.pinned_by, s.probe_key, s.revision, s.reach, s.in_use, d.router AS on_router
	FROM service s JOIN device d ON d.id = s.device_id LEFT JOIN link l ON l.id = s.link_id`

// Services lists the services of a site by name; siteID 0 lists those of all sites.
func (s *Store) Services(ctx context.Context, siteID int64) ([]site.Service, error) {
	out, err := services(ctx, s.db, siteID)
	for i := range out {
		err = errors.Join(err, s.unseal(probeKeys, &out[i].ProbeKey))
	}
	return out, err
}

func services(ctx context.Context, q sqlx.QueryerContext, siteID int64) ([]site.Service, error) {
	var rows []serviceRow
	statement, args := serviceColumns, []any{}
	if siteID != 0 {
		statement, args = statement+` WHERE s.site_id = $1`, []any{siteID}
	}
	err := sqlx.SelectContext(ctx, q, &rows, statement+` ORDER BY s.site_id, s.name`, args...)
	out := make([]site.Service, len(rows))
	for i, r := range rows {
		out[i] = r.service()
	}
	return out, err
}

// Service finds a service of a site by its name.
func (s *Store) Service(ctx context.Context, siteID int64, name string) (site.Service, error) {
	var r serviceRow
	err := s.db.GetContext(ctx, &r, serviceColumns+` WHERE s.site_id = $1 AND s.name = lower($2)`, siteID, name)
	if err == nil {
		err = s.unseal(probeKeys, &r.ProbeKey)
	}
	return r.service(), explained(err, "service", "name", name)
}

// PutService records a service, new where its ID is 0, and returns its ID. It is refused with site.Flaws where it claims
// an external port that another service of the site has; two requests at once cannot both pass.
func (s *Store) PutService(ctx context.Context, in site.Service) (int64, error) {
	id := in.ID
	in.ProbeKey = s.ring.Seal(probeKeys, in.ProbeKey)
	err := s.inTx(ctx, func(tx *sqlx.Tx) (err error) {
		var locked int64
		if err := tx.GetContext(ctx, &locked, `SELECT id FROM site WHERE id = $1 FOR UPDATE`, in.SiteID); err != nil {
			return err
		}
		if err := conflicts(ctx, tx, in); err != nil {
			return err
		}
		if in.ID == 0 {
			id, err = insertService(ctx, tx, in)
			return err
		}
		r, err := tx.ExecContext(ctx, `UPDATE service SET device_id = $2, link_id = $3, name = $4, kind = $5, transport = $6,
			external_from = $7, external_to = $8, internal_from = $9, expected = $10, interval_s = $11,
			options = $12, open_until = $13, probe_key = $14, fingerprint = $15, pinned_at = $16, pinned_by = $17, reach = $18,
				in_use = $19, revision = revision + 1 WHERE id = $1`,
			in.ID, in.DeviceID, ref(in.LinkID), in.Name, in.Kind, in.Transport, in.ExternalFrom, in.ExternalTo, in.InternalFrom,
			in.Expected, in.Interval,
			options{in.Options.Get()}, when{in.OpenUntil}, in.ProbeKey, in.Fingerprint, when{in.Pinned}, in.PinnedBy, reachOf(in),
			in.InUse)
		return affected(r, err, "service", "name", in.Name)
	})
	return id, explained(err, "service", "name", in.Name)
}

// AddService records a new service whose ports were checked against those of its site while nobody else could change it, and returns its
// ID.
func (s *Store) AddService(ctx context.Context, in site.Service) (int64, error) {
	in.ProbeKey = s.ring.Seal(probeKeys, in.ProbeKey)
	id, err := insertService(ctx, s.db, in)
	return id, explained(err, "service", "name", in.Name)
}

func insertService(ctx context.Context, q sqlx.QueryerContext, in site.Service) (id int64, err error) {
	err = sqlx.GetContext(ctx, q, &id, `INSERT INTO service
		(site_id, device_id, link_id, name, kind, transport, external_from, external_to, internal_from, expected, interval_s,
		options, open_until, probe_key, reach, in_use)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15, $16) RETURNING id`,
		in.SiteID, in.DeviceID, ref(in.LinkID), in.Name, in.Kind, in.Transport, in.ExternalFrom, in.ExternalTo,
		in.InternalFrom, in.Expected, in.Interval,
		options{in.Options.Get()}, when{in.OpenUntil}, in.ProbeKey, reachOf(in), in.InUse)
	return id, err
}

// conflicts reports as site.Flaws that another service of the site claims an external port of one.
func conflicts(ctx context.Context, tx *sqlx.Tx, in site.Service) error {
	var near bool
	if err := tx.GetContext(ctx, &near, `SELECT EXISTS (SELECT FROM service WHERE site_id = $1 AND id <> $2 AND external_from <= $4
		AND external_to >= $3)`, in.SiteID, in.ID, in.ExternalFrom, in.ExternalTo); err != nil || !near {
		return err
	}
	others, err := services(ctx, tx, in.SiteID)
	if err != nil {
		return err
	}
	return site.Conflicts(in, others)
}

// Pin records what a service is recognised by, for the revision that showed it. With first it is kept where another is pinned
// already, and the revision stays: it is no edit. pinned reports whether it was taken.
func (s *Store) Pin(ctx context.Context, id, revision int64, fingerprint, by string, now time.Time, first bool) (pinned bool, err error) {
	r, err := s.db.ExecContext(ctx, `UPDATE service SET fingerprint = $3, pinned_by = $4, pinned_at = $5, revision = revision + CASE
		WHEN $6 THEN 0 ELSE 1 END
		WHERE id = $1 AND revision = $2 AND (NOT $6 OR fingerprint = '')`, id, revision, fingerprint, by, when{now}, first)
	if err != nil {
		return false, err
	}
	n, err := r.RowsAffected()
	return n == 1, err
}

// RemoveService removes a service; Restore brings it back. Its history goes with the partitions it is in.
func (s *Store) RemoveService(ctx context.Context, in site.Service, by Removal) error {
	return s.inTx(ctx, func(tx *sqlx.Tx) error {
		if err := setAside(ctx, tx, "service", in.ID, in.SiteID, in.Name, by); err != nil {
			return err
		}
		r, err := tx.ExecContext(ctx, `DELETE FROM service WHERE id = $1`, in.ID)
		return affected(r, err, "service", "name", in.Name)
	})
}
