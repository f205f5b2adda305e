package store

import (
	"context"

	"github.com/jmoiron/sqlx"

	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/core/wan"
)

type hostnameRow struct {
	ID       int64        `db:"id"`
	ZoneID   int64        `db:"zone_id"`
	SiteID   int64        `db:"site_id"`
	LinkID   ref          `db:"link_id"`
	Name     names.Name   `db:"name"`
	Zone     names.Name   `db:"zone"`
	Site     string       `db:"site"`
	Link     string       `db:"link"`
	TTL      int          `db:"ttl"`
	Extras   list[string] `db:"extras"`
	Mail     names.Name   `db:"mail"`
	HoldBy   site.Holder  `db:"hold_by"`
	Hold4    inet         `db:"hold4"`
	Hold6    inet         `db:"hold6"`
	Device   ref          `db:"device_id"`
	OfDevice string       `db:"device"`
	Revision int64        `db:"revision"`
}

func (r hostnameRow) hostname() site.Hostname {
	return site.Hostname{ID: r.ID, ZoneID: r.ZoneID, SiteID: r.SiteID, LinkID: int64(r.LinkID), Name: r.Name, Zone: r.Zone,
		Site: r.Site, Link: r.Link, TTL: r.TTL, Extras: r.Extras, Mail: r.Mail,
		HoldBy: r.HoldBy, Hold: wan.Pair{IPv4: r.Hold4.Addr, IPv6: r.Hold6.Addr}, DeviceID: int64(r.Device), Device: r.OfDevice,
		Revision: r.Revision}
}

const hostnameColumns = `SELECT h.id, h.zone_id, h.site_id, h.link_id, h.name, z.apex AS zone, s.code AS site,
	coalesce(l.label, '') AS link, h.ttl, h.extras, h.mail, h.hold_by, host(h.hold_ipv4) AS hold4, host(h.hold_ipv6) AS hold6,
	h.device_id, coalesce(d.name, '') AS device, h.revision
	FROM hostname h LEFT JOIN device d ON d.id = h.device_id JOIN zone z ON z.id = h.zone_id JOIN site s ON s.id = h.site_id LEFT
		JOIN link l ON l.id = h.link_id`

// Hostnames lists the hostnames of a site by name, all or only those that have some names; siteID 0 lists those of all sites.
func (s *Store) Hostnames(ctx context.Context, siteID int64, at ...names.Name) ([]site.Hostname, error) {
	var rows []hostnameRow
	err := s.selectAt(ctx, &rows, hostnameColumns, "h.site_id", siteID, "h.name", at)
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
			return tx.GetContext(ctx, &id, `INSERT INTO hostname (zone_id, site_id, link_id, name, ttl, extras, mail, device_id)
				VALUES ($1, $2, $3, $4, $5, $6, $7, $8) RETURNING id`, h.ZoneID, h.SiteID, ref(h.LinkID), h.Name, h.TTL,
				list[string](h.Extras), h.Mail, ref(h.DeviceID))
		}
		r, err := tx.ExecContext(ctx, `UPDATE hostname
			SET link_id = $2, ttl = $3, extras = $4, mail = $5, device_id = $6, revision = revision + 1 WHERE id = $1`,
			h.ID, ref(h.LinkID), h.TTL, list[string](h.Extras), h.Mail, ref(h.DeviceID))
		return affected(r, err, "hostname", "name", string(h.Name))
	})
	return id, serial, explained(err, "hostname", "name", string(h.Name))
}

// bumpWithout raises the serial of every zone that loses a name with some hostnames h: their own, and those of the aliases
// and redirects that go with them.
func bumpWithout(ctx context.Context, tx *sqlx.Tx, which string, id int64, serials map[int64]uint32) error {
	var zones []int64
	if err := tx.SelectContext(ctx, &zones, `SELECT h.zone_id FROM hostname h WHERE `+which+`
		UNION SELECT a.zone_id FROM alias a JOIN hostname h ON h.id = a.hostname_id WHERE `+which+`
		UNION SELECT r.zone_id FROM redirect r JOIN hostname h ON h.id = r.hostname_id WHERE `+which+` ORDER BY zone_id`, id); err != nil {
		return err
	}
	for _, zone := range zones {
		var serial uint32
		if err := bump(ctx, tx, zone, &serial); err != nil {
			return err
		}
		serials[zone] = serial
	}
	return nil
}

// RemoveHostname removes a hostname with its aliases and redirects, and raises the serials of the zones that lose a name in
// the same transaction. It returns them by zone ID. Restore brings it back.
func (s *Store) RemoveHostname(ctx context.Context, h site.Hostname, by Removal) (map[int64]uint32, error) {
	serials := map[int64]uint32{}
	err := s.inTx(ctx, func(tx *sqlx.Tx) error {
		if err := bumpWithout(ctx, tx, `h.id = $1`, h.ID, serials); err != nil {
			return err
		}
		if err := setAside(ctx, tx, "hostname", h.ID, h.SiteID, string(h.Name), by); err != nil {
			return err
		}
		r, err := tx.ExecContext(ctx, `DELETE FROM hostname WHERE id = $1`, h.ID)
		return affected(r, err, "hostname", "name", string(h.Name))
	})
	return serials, err
}

// HoldHostnames has hostnames stay at addresses, or, with by "", follow their links again; their zones' serials go up.
func (s *Store) HoldHostnames(ctx context.Context, by site.Holder, kept map[int64]wan.Pair, zones []int64) error {
	return s.inTx(ctx, func(tx *sqlx.Tx) error {
		var serial uint32
		for _, zone := range zones {
			if err := bump(ctx, tx, zone, &serial); err != nil {
				return err
			}
		}
		for id, pair := range kept {
			if _, err := tx.ExecContext(ctx, `UPDATE hostname
				SET hold_by = $2, hold_ipv4 = $3, hold_ipv6 = $4, revision = revision + 1 WHERE id = $1`,
				id, by, inet{pair.IPv4}, inet{pair.IPv6}); err != nil {
				return err
			}
		}
		return nil
	})
}
