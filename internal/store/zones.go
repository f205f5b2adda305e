package store

import (
	"context"
	"encoding/json"
	"fmt"

	"github.com/jmoiron/sqlx"

	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/site"
)

type zoneRow struct {
	ID       int64      `db:"id"`
	Apex     names.Name `db:"apex"`
	Contact  names.Name `db:"contact"`
	Serial   uint32     `db:"serial"`
	Refresh  uint32     `db:"refresh"`
	Retry    uint32     `db:"retry"`
	Expire   uint32     `db:"expire"`
	Negative uint32     `db:"negative"`
	TTL      uint32     `db:"ttl"`
	Servers  []byte     `db:"servers"`
}

func (r zoneRow) zone() (names.Zone, error) {
	z := names.Zone{ID: r.ID, Apex: r.Apex, Contact: r.Contact, Serial: r.Serial, Refresh: r.Refresh, Retry: r.Retry,
		Expire: r.Expire, Negative: r.Negative, TTL: r.TTL}
	if err := json.Unmarshal(r.Servers, &z.Servers); err != nil {
		return z, fmt.Errorf("zone %s: its servers cannot be read: %w", r.Apex, err)
	}
	return z, nil
}

const zoneColumns = `SELECT id, apex, contact, serial, refresh, retry, expire, negative, ttl, servers FROM zone`

// nextSerial is names.NextSerial in SQL.
const nextSerial = `serial = CASE WHEN serial = 4294967295 THEN 1 ELSE serial + 1 END`

// Zones lists all zones by apex.
func (s *Store) Zones(ctx context.Context) ([]names.Zone, error) {
	var rows []zoneRow
	if err := s.db.SelectContext(ctx, &rows, zoneColumns+` ORDER BY apex`); err != nil {
		return nil, err
	}
	out := make([]names.Zone, 0, len(rows))
	for _, r := range rows {
		z, err := r.zone()
		if err != nil {
			return nil, err
		}
		out = append(out, z)
	}
	return out, nil
}

// Zone finds a zone by its apex.
func (s *Store) Zone(ctx context.Context, apex names.Name) (names.Zone, error) {
	var r zoneRow
	if err := s.db.GetContext(ctx, &r, zoneColumns+` WHERE apex = $1`, apex); err != nil {
		return names.Zone{}, explained(err, "zone", "apex", string(apex))
	}
	return r.zone()
}

// PutZone records a zone, new where its ID is 0, and returns it as stored. The serial of a zone that exists goes up.
func (s *Store) PutZone(ctx context.Context, z names.Zone) (names.Zone, error) {
	servers, err := json.Marshal(z.Servers)
	if err != nil {
		return z, err
	}
	var r zoneRow
	if z.ID == 0 {
		err = s.db.GetContext(ctx, &r, `INSERT INTO zone (apex, contact, serial, refresh, retry, expire, negative, ttl, servers)
			VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9)
			RETURNING id, apex, contact, serial, refresh, retry, expire, negative, ttl, servers`,
			z.Apex, z.Contact, z.Serial, z.Refresh, z.Retry, z.Expire, z.Negative, z.TTL, servers)
	} else {
		err = s.db.GetContext(ctx, &r, `UPDATE zone SET contact = $2, refresh = $3, retry = $4, expire = $5, negative = $6, ttl = $7,
			servers = $8, `+nextSerial+` WHERE id = $1
			RETURNING id, apex, contact, serial, refresh, retry, expire, negative, ttl, servers`,
			z.ID, z.Contact, z.Refresh, z.Retry, z.Expire, z.Negative, z.TTL, servers)
	}
	if err != nil {
		return z, explained(err, "zone", "apex", string(z.Apex))
	}
	return r.zone()
}

// RemoveZone removes a zone in which no hostname lives.
func (s *Store) RemoveZone(ctx context.Context, z names.Zone) error {
	r, err := s.db.ExecContext(ctx, `DELETE FROM zone WHERE id = $1`, z.ID)
	var used int
	if err != nil {
		_ = s.db.GetContext(ctx, &used, `SELECT count(*) FROM hostname WHERE zone_id = $1`, z.ID)
	}
	if used > 0 {
		return InUse{Kind: "zone", Name: string(z.Apex), By: fmt.Sprintf("%d hostnames", used)}
	}
	return affected(r, err, "zone", "apex", string(z.Apex))
}

type hostnameRow struct {
	ID     int64      `db:"id"`
	ZoneID int64      `db:"zone_id"`
	SiteID int64      `db:"site_id"`
	LinkID ref        `db:"link_id"`
	Name   names.Name `db:"name"`
	Zone   names.Name `db:"zone"`
	Site   string     `db:"site"`
	Link   string     `db:"link"`
	TTL    int        `db:"ttl"`
}

func (r hostnameRow) hostname() site.Hostname {
	return site.Hostname{ID: r.ID, ZoneID: r.ZoneID, SiteID: r.SiteID, LinkID: int64(r.LinkID), Name: r.Name, Zone: r.Zone,
		Site: r.Site, Link: r.Link, TTL: r.TTL}
}

const hostnameColumns = `SELECT h.id, h.zone_id, h.site_id, h.link_id, h.name, z.apex AS zone, s.code AS site,
	coalesce(l.label, '') AS link, h.ttl
	FROM hostname h JOIN zone z ON z.id = h.zone_id JOIN site s ON s.id = h.site_id LEFT JOIN link l ON l.id = h.link_id`

// Hostnames lists the hostnames of a site by name; siteID 0 lists those of all sites.
func (s *Store) Hostnames(ctx context.Context, siteID int64) ([]site.Hostname, error) {
	var rows []hostnameRow
	err := s.db.SelectContext(ctx, &rows, hostnameColumns+` WHERE $1 = 0 OR h.site_id = $1 ORDER BY h.name`, siteID)
	out := make([]site.Hostname, len(rows))
	for i, r := range rows {
		out[i] = r.hostname()
	}
	return out, err
}

// Hostname finds a hostname by its name.
func (s *Store) Hostname(ctx context.Context, name names.Name) (site.Hostname, error) {
	var r hostnameRow
	err := s.db.GetContext(ctx, &r, hostnameColumns+` WHERE h.name = $1`, name)
	return r.hostname(), explained(err, "hostname", "name", string(name))
}

// PutHostname records a hostname, new where its ID is 0, and raises its zone's serial in the same transaction. It returns
// the hostname's ID and the new serial.
func (s *Store) PutHostname(ctx context.Context, h site.Hostname) (id int64, serial uint32, err error) {
	id = h.ID
	err = s.inTx(ctx, func(tx *sqlx.Tx) error {
		if err := bump(ctx, tx, h.ZoneID, &serial); err != nil {
			return err
		}
		if h.ID == 0 {
			return tx.GetContext(ctx, &id, `INSERT INTO hostname (zone_id, site_id, link_id, name, ttl) VALUES ($1, $2, $3, $4, $5) RETURNING id`,
				h.ZoneID, h.SiteID, ref(h.LinkID), h.Name, h.TTL)
		}
		r, err := tx.ExecContext(ctx, `UPDATE hostname SET link_id = $2, ttl = $3 WHERE id = $1`, h.ID, ref(h.LinkID), h.TTL)
		return affected(r, err, "hostname", "name", string(h.Name))
	})
	return id, serial, explained(err, "hostname", "name", string(h.Name))
}

// RemoveHostname removes a hostname and raises its zone's serial in the same transaction.
func (s *Store) RemoveHostname(ctx context.Context, h site.Hostname) (serial uint32, err error) {
	err = s.inTx(ctx, func(tx *sqlx.Tx) error {
		if err := bump(ctx, tx, h.ZoneID, &serial); err != nil {
			return err
		}
		r, err := tx.ExecContext(ctx, `DELETE FROM hostname WHERE id = $1`, h.ID)
		return affected(r, err, "hostname", "name", string(h.Name))
	})
	return serial, err
}

// RemoveSite removes a site and everything on its record, and raises the serial of every zone that loses a hostname. It
// returns those zones' new serials by zone ID.
func (s *Store) RemoveSite(ctx context.Context, in site.Site) (map[int64]uint32, error) {
	serials := map[int64]uint32{}
	err := s.inTx(ctx, func(tx *sqlx.Tx) error {
		var zones []int64
		if err := tx.SelectContext(ctx, &zones, `SELECT DISTINCT zone_id FROM hostname WHERE site_id = $1 ORDER BY zone_id`, in.ID); err != nil {
			return err
		}
		for _, id := range zones {
			var serial uint32
			if err := bump(ctx, tx, id, &serial); err != nil {
				return err
			}
			serials[id] = serial
		}
		// What refers to links and devices goes first: those references guard against removing one by itself.
		for _, table := range []string{"hostname", "service"} {
			if _, err := tx.ExecContext(ctx, `DELETE FROM `+table+` WHERE site_id = $1`, in.ID); err != nil {
				return err
			}
		}
		r, err := tx.ExecContext(ctx, `DELETE FROM site WHERE id = $1`, in.ID)
		return affected(r, err, "site", "code", in.Code)
	})
	return serials, err
}

// BumpSerials raises the serial of each zone and returns the new ones, for changes that change no hostname's record but
// its answer, such as another order of preference.
func (s *Store) BumpSerials(ctx context.Context, zones []int64) (map[int64]uint32, error) {
	serials := map[int64]uint32{}
	err := s.inTx(ctx, func(tx *sqlx.Tx) error {
		for _, id := range zones {
			var serial uint32
			if err := bump(ctx, tx, id, &serial); err != nil {
				return err
			}
			serials[id] = serial
		}
		return nil
	})
	return serials, err
}

func bump(ctx context.Context, tx *sqlx.Tx, zoneID int64, serial *uint32) error {
	return tx.GetContext(ctx, serial, `UPDATE zone SET `+nextSerial+` WHERE id = $1 RETURNING serial`, zoneID)
}
