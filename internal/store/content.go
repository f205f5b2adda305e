package store

import (
	"context"
	"errors"
	"net/netip"
	"slices"

	"github.com/jmoiron/sqlx"

	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/site"
)

// Aliases lists the aliases of a site's hostnames by name, all or only those that have some names; siteID 0 lists those of all sites.
func (s *Store) Aliases(ctx context.Context, siteID int64, at ...names.Name) ([]site.Alias, error) {
	var rows []struct {
		ID         int64      `db:"id"`
		ZoneID     int64      `db:"zone_id"`
		HostnameID int64      `db:"hostname_id"`
		SiteID     int64      `db:"site_id"`
		Name       names.Name `db:"name"`
		Zone       names.Name `db:"zone"`
		Hostname   names.Name `db:"hostname"`
		Site       string     `db:"site"`
		TTL        int        `db:"ttl"`
		Revision   int64      `db:"revision"`
	}
	err := s.selectAt(ctx, &rows, `SELECT a.id, a.zone_id, a.hostname_id, h.site_id, a.name, z.apex AS zone, h.name AS hostname,
		s.code AS site, a.ttl, a.revision
		FROM alias a JOIN zone z ON z.id = a.zone_id JOIN hostname h ON h.id = a.hostname_id JOIN site s ON s.id = h.site_id`,
		"h.site_id", siteID, "a.name", at)
	out := make([]site.Alias, len(rows))
	for i, r := range rows {
		out[i] = site.Alias(r)
	}
	return out, err
}

// AddAlias records an alias and raises its zone's serial.
func (s *Store) AddAlias(ctx context.Context, a site.Alias) error {
	err := s.inZone(ctx, a.ZoneID, func(tx *sqlx.Tx) error {
		_, err := tx.ExecContext(ctx, `INSERT INTO alias (zone_id, hostname_id, name, ttl) VALUES ($1, $2, $3, $4)`, a.ZoneID,
			a.HostnameID, a.Name, a.TTL)
		return err
	})
	return explained(err, "alias", "name", string(a.Name))
}

// RemoveAlias removes an alias and raises its zone's serial.
func (s *Store) RemoveAlias(ctx context.Context, a site.Alias) error {
	return s.inZone(ctx, a.ZoneID, func(tx *sqlx.Tx) error {
		r, err := tx.ExecContext(ctx, `DELETE FROM alias WHERE id = $1`, a.ID)
		return affected(r, err, "alias", "name", string(a.Name))
	})
}

// Redirects lists the redirects to a site's hostnames by name; siteID 0 lists those of all sites.
func (s *Store) Redirects(ctx context.Context, siteID int64) ([]site.Redirect, error) {
	var rows []struct {
		ID         int64      `db:"id"`
		ZoneID     int64      `db:"zone_id"`
		HostnameID int64      `db:"hostname_id"`
		SiteID     int64      `db:"site_id"`
		Name       names.Name `db:"name"`
		Zone       names.Name `db:"zone"`
		Hostname   names.Name `db:"hostname"`
		Site       string     `db:"site"`
		TTL        int        `db:"ttl"`
		Scheme     string     `db:"scheme"`
		Port       int        `db:"port"`
		Path       string     `db:"path"`
		KeepPath   bool       `db:"keep_path"`
		Status     int        `db:"status"`
		Revision   int64      `db:"revision"`
	}
	err := s.selectOf(ctx, &rows, `SELECT r.id, r.zone_id, r.hostname_id, h.site_id, r.name, z.apex AS zone, h.name AS hostname,
		s.code AS site, r.ttl,
			r.scheme, r.port, r.path, r.keep_path, r.status, r.revision
		FROM redirect r JOIN zone z ON z.id = r.zone_id JOIN hostname h ON h.id = r.hostname_id JOIN site s ON s.id = h.site_id`,
		"h.site_id", siteID, "r.name")
	out := make([]site.Redirect, len(rows))
	for i, r := range rows {
		out[i] = site.Redirect(r)
	}
	return out, err
}

// PutRedirect records a redirect name, new where its ID is 0, and raises its zone's serial.
func (s *Store) PutRedirect(ctx context.Context, r site.Redirect) error {
	err := s.inZone(ctx, r.ZoneID, func(tx *sqlx.Tx) error {
		if r.ID == 0 {
			_, err := tx.ExecContext(ctx, `INSERT INTO redirect (zone_id, hostname_id, name, ttl, scheme, port, path, keep_path, status)
				VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9)`, r.ZoneID, r.HostnameID, r.Name, r.TTL, r.Scheme, r.Port, r.Path,
				r.KeepPath, r.Status)
			return err
		}
		done, err := tx.ExecContext(ctx, `UPDATE redirect
			SET hostname_id = $2, ttl = $3, scheme = $4, port = $5, path = $6, keep_path = $7, status = $8, revision = revision + 1
			WHERE id = $1`, r.ID, r.HostnameID, r.TTL, r.Scheme, r.Port, r.Path, r.KeepPath, r.Status)
		return affected(done, err, "redirect", "name", string(r.Name))
	})
	return explained(err, "redirect", "name", string(r.Name))
}

// RemoveRedirect removes a redirect name and raises its zone's serial.
func (s *Store) RemoveRedirect(ctx context.Context, r site.Redirect) error {
	return s.inZone(ctx, r.ZoneID, func(tx *sqlx.Tx) error {
		done, err := tx.ExecContext(ctx, `DELETE FROM redirect WHERE id = $1`, r.ID)
		return affected(done, err, "redirect", "name", string(r.Name))
	})
}

// ZoneRecord is a record that a person put into a zone beside hostnames and aliases.
type ZoneRecord struct {
	ID     int64      `db:"id"`
	ZoneID int64      `db:"zone_id"`
	Name   names.Name `db:"name"`
	Type   string     `db:"type"`
	TTL    int        `db:"ttl"`
	Data   string     `db:"data"`
}

// Record is the record itself.
func (r ZoneRecord) Record() names.Record {
	return names.Record{Name: r.Name, Type: r.Type, TTL: r.TTL, Data: r.Data}
}

// ZoneRecords lists the records of all zones by name.
func (s *Store) ZoneRecords(ctx context.Context) ([]ZoneRecord, error) {
	var out []ZoneRecord
	err := s.db.SelectContext(ctx, &out, zoneRecordColumns+` ORDER BY name, type, data`)
	return out, err
}

// ZoneRecordsAt lists the records of one zone at some names.
func (s *Store) ZoneRecordsAt(ctx context.Context, zoneID int64, at []names.Name) ([]ZoneRecord, error) {
	var out []ZoneRecord
	err := s.db.SelectContext(ctx, &out, zoneRecordColumns+` WHERE zone_id = $1 AND name = ANY($2::text[]) ORDER BY name, type, data`,
		zoneID, at)
	return out, err
}

// ZoneRecordsOf lists all records of one zone.
func (s *Store) ZoneRecordsOf(ctx context.Context, zoneID int64) ([]ZoneRecord, error) {
	var out []ZoneRecord
	err := s.db.SelectContext(ctx, &out, zoneRecordColumns+` WHERE zone_id = $1 ORDER BY name, type, data`, zoneID)
	return out, err
}

const zoneRecordColumns = `SELECT id, zone_id, name, type, ttl, data FROM zone_record`

// ChangeZoneRecords adds and removes records of one zone, raises its serial and accepts a group of moves, which may be empty: all
// of it or nothing.
func (s *Store) ChangeZoneRecords(ctx context.Context, zoneID int64, add []names.Record, remove []int64, g Group) error {
	return s.inZone(ctx, zoneID, func(tx *sqlx.Tx) error {
		if err := changeRecords(ctx, tx, zoneID, add, remove); err != nil {
			return err
		}
		return s.AcceptWith(ctx, g)
	})
}

func changeRecords(ctx context.Context, tx *sqlx.Tx, zoneID int64, add []names.Record, remove []int64) error {
	if _, err := tx.ExecContext(ctx, `DELETE FROM zone_record WHERE zone_id = $1 AND id = ANY($2::bigint[])`, zoneID, remove); err != nil {
		return err
	}
	for part := range slices.Chunk(add, recordsAtOnce) {
		if len(part) > 1 && addRecords(ctx, tx, zoneID, part) == nil {
			continue
		}
		for _, r := range part { // one of them is refused: which one it is has to be said
			if _, err := tx.ExecContext(ctx, `INSERT INTO zone_record (zone_id, name, type, ttl, data) VALUES ($1, $2, $3, $4, $5)`,
				zoneID, r.Name, r.Type, r.TTL, r.Data); err != nil {
				return explained(err, "record", "data", string(r.Name)+" "+r.Type)
			}
		}
	}
	return nil
}

// recordsAtOnce is how many records one statement adds.
const recordsAtOnce = 5000

// addRecords adds records by one statement: all, or none and an error, after which the transaction goes on.
func addRecords(ctx context.Context, tx *sqlx.Tx, zoneID int64, add []names.Record) error {
	owners, types, data := make([]string, len(add)), make([]string, len(add)), make([]string, len(add))
	ttls := make([]int, len(add))
	for i, r := range add {
		owners[i], types[i], ttls[i], data[i] = string(r.Name), r.Type, r.TTL, r.Data
	}
	if _, err := tx.ExecContext(ctx, `SAVEPOINT records`); err != nil {
		return err
	}
	_, err := tx.ExecContext(ctx, `INSERT INTO zone_record (zone_id, name, type, ttl, data)
		SELECT $1, * FROM unnest($2::text[], $3::text[], $4::int[], $5::text[])`, zoneID, owners, types, ttls, data)
	if err != nil {
		_, back := tx.ExecContext(ctx, `ROLLBACK TO SAVEPOINT records`)
		return errors.Join(err, back)
	}
	_, err = tx.ExecContext(ctx, `RELEASE SAVEPOINT records`)
	return err
}

// ImportZone records a zone (new where its ID is 0) with its timers, servers and records as a zone file had them: all of it
// or nothing. atLeast is a serial that the zone's must come after.
func (s *Store) ImportZone(ctx context.Context, z names.Zone, add []names.Record, remove []int64, atLeast uint32) error {
	return s.inTx(ctx, func(tx *sqlx.Tx) error {
		put, err := putZone(ctx, tx, z)
		if err != nil {
			return err
		}
		if names.SerialAfter(atLeast, put.Serial) {
			if _, err := tx.ExecContext(ctx, `UPDATE zone SET serial = $2 WHERE id = $1`, put.ID, int64(atLeast)); err != nil {
				return err
			}
		}
		return changeRecords(ctx, tx, put.ID, add, remove)
	})
}

func (s *Store) inZone(ctx context.Context, zoneID int64, f func(*sqlx.Tx) error) error {
	return s.inTx(ctx, func(tx *sqlx.Tx) error {
		var serial uint32
		if err := bump(ctx, tx, zoneID, &serial); err != nil {
			return err
		}
		return f(tx)
	})
}

// SigningKey is a TSIG key (RFC 8945): for zone transfers, or, with a site, for updates of that site's names. The name
// has no final dot, the secret is in base64.
type SigningKey struct {
	ID        int64  `db:"id"`
	Name      string `db:"name"`
	Algorithm string `db:"algorithm"`
	Secret    string `db:"secret"`
	SiteID    ref    `db:"site_id"`
	Site      string `db:"site"`
	Created   when   `db:"created_at"`
	// MayAnnounce are the prefixes in which updates may set addresses that are not their sender's.
	MayAnnounce list[netip.Prefix] `db:"may_announce"`
}

// SigningKeys lists all TSIG keys by name.
func (s *Store) SigningKeys(ctx context.Context) ([]SigningKey, error) {
	var out []SigningKey
	err := s.db.SelectContext(ctx, &out, signingKeyColumns+` ORDER BY k.name`)
	return out, errors.Join(err, s.unsealKeys(out))
}

// SigningKeysOf lists the TSIG keys of a site, and those of some names.
func (s *Store) SigningKeysOf(ctx context.Context, siteID int64, names []string) ([]SigningKey, error) {
	var out []SigningKey
	err := s.db.SelectContext(ctx, &out, signingKeyColumns+` WHERE k.site_id = $1 OR k.name = ANY($2::text[])`, siteID, names)
	return out, errors.Join(err, s.unsealKeys(out))
}

func (s *Store) unsealKeys(list []SigningKey) (err error) {
	for i := range list {
		err = errors.Join(err, s.unseal(signingSecrets, &list[i].Secret))
	}
	return err
}

const signingKeyColumns = `SELECT k.id, k.name, k.algorithm, k.secret, k.site_id, coalesce(s.code, '') AS site, k.created_at, k.may_announce
	FROM signing_key k LEFT JOIN site s ON s.id = k.site_id`

// AddSigningKey records a TSIG key.
func (s *Store) AddSigningKey(ctx context.Context, name, algorithm, secret string, siteID int64, mayAnnounce []netip.Prefix) error {
	_, err := s.db.ExecContext(ctx, `INSERT INTO signing_key (name, algorithm, secret, site_id, may_announce)
		VALUES ($1, $2, $3, $4, $5)`, name, algorithm, s.ring.Seal(signingSecrets, secret), ref(siteID), list[netip.Prefix](mayAnnounce))
	return explained(err, "signing key", "name", name)
}

// AllowSigningKey sets the prefixes in which updates with a key may set addresses that are not their sender's.
func (s *Store) AllowSigningKey(ctx context.Context, name string, mayAnnounce []netip.Prefix) error {
	r, err := s.db.ExecContext(ctx, `UPDATE signing_key SET may_announce = $2 WHERE name = $1`, name, list[netip.Prefix](mayAnnounce))
	return affected(r, err, "signing key", "name", name)
}

// RemoveSigningKey makes a TSIG key unknown.
func (s *Store) RemoveSigningKey(ctx context.Context, name string) error {
	r, err := s.db.ExecContext(ctx, `DELETE FROM signing_key WHERE name = $1`, name)
	return affected(r, err, "signing key", "name", name)
}
