package store

import (
	"context"
	"fmt"
	"maps"
	"net/netip"
	"slices"

	"github.com/jmoiron/sqlx"

	"inkpost.example/inkpost/internal/core/names"
)

type zoneRow struct {
	ID       int64                `db:"id"`
	Apex     names.Name           `db:"apex"`
	Contact  names.Name           `db:"contact"`
	Serial   uint32               `db:"serial"`
	Refresh  uint32               `db:"refresh"`
	Retry    uint32               `db:"retry"`
	Expire   uint32               `db:"expire"`
	Negative uint32               `db:"negative"`
	TTL      uint32               `db:"ttl"`
	Servers  list[names.Server]   `db:"servers"`
	To       list[netip.Prefix]   `db:"transfer_to"`
	Key      string               `db:"transfer_key"`
	Notify   list[netip.AddrPort] `db:"notify"`
	AlsoAsk  list[netip.AddrPort] `db:"also_ask"`
	Template string               `db:"template"`
	Kind     names.ZoneKind       `db:"kind"`
	Primary  endpoint             `db:"primary_at"`
	Via      string               `db:"transport"`
	Known    string               `db:"primary_key"`
	Reassert int                  `db:"reassert_s"`
	Pushing  bool                 `db:"pushing"`
	Revision int64                `db:"revision"`
	MName    names.Name           `db:"mname"`
}

func (r zoneRow) zone() names.Zone {
	return names.Zone{ID: r.ID, Apex: r.Apex, Contact: r.Contact, Serial: r.Serial, Refresh: r.Refresh, Retry: r.Retry,
		Expire: r.Expire, Negative: r.Negative, TTL: r.TTL, Servers: r.Servers, TransferTo: r.To, TransferKey: r.Key,
		Notify: r.Notify, AlsoAsk: r.AlsoAsk,
		Template: r.Template, Kind: r.Kind, Primary: r.Primary.AddrPort, Transport: r.Via, PrimaryKey: r.Known, Reassert: r.Reassert,
		Pushing: r.Pushing, Revision: r.Revision, MName: r.MName}
}

const zoneFields = `id, apex, contact, serial, refresh, retry, expire, negative, ttl, servers, transfer_to, transfer_key, notify,
	also_ask, template, kind, primary_at, transport, primary_key, reassert_s, pushing, revision, mname`

const zoneColumns = `SELECT ` + zoneFields + ` FROM zone`

// nextSerial is names.NextSerial in SQL.
const nextSerial = `serial = CASE WHEN serial = 4294967295 THEN 1 ELSE serial + 1 END`

// Zones lists all zones by apex.
func (s *Store) Zones(ctx context.Context) ([]names.Zone, error) {
	var rows []zoneRow
	if err := s.db.SelectContext(ctx, &rows, zoneColumns+` ORDER BY apex`); err != nil {
		return nil, err
	}
	out := make([]names.Zone, len(rows))
	for i, r := range rows {
		out[i] = r.zone()
	}
	return out, nil
}

// ZonesByID lists some zones.
func (s *Store) ZonesByID(ctx context.Context, ids []int64) ([]names.Zone, error) {
	var rows []zoneRow
	err := s.db.SelectContext(ctx, &rows, zoneColumns+` WHERE id = ANY($1::bigint[])`, ids)
	out := make([]names.Zone, len(rows))
	for i, r := range rows {
		out[i] = r.zone()
	}
	return out, err
}

// Zone finds a zone by its apex.
func (s *Store) Zone(ctx context.Context, apex names.Name) (names.Zone, error) {
	var r zoneRow
	if err := s.db.GetContext(ctx, &r, zoneColumns+` WHERE apex = $1`, apex); err != nil {
		return names.Zone{}, explained(err, "zone", "apex", string(apex))
	}
	return r.zone(), nil
}

// PutZone records a zone, new where its ID is 0, and returns it as stored. The serial of a zone that exists goes up.
func (s *Store) PutZone(ctx context.Context, z names.Zone) (names.Zone, error) {
	return putZone(ctx, s.db, z)
}

func putZone(ctx context.Context, q sqlx.QueryerContext, z names.Zone) (names.Zone, error) {
	var r zoneRow
	var err error
	servers, to, notify, ask := list[names.Server](z.Servers), list[netip.Prefix](z.TransferTo), list[netip.AddrPort](z.Notify),
		list[netip.AddrPort](z.AlsoAsk)
	if z.ID == 0 {
		err = sqlx.GetContext(ctx, q, &r, `INSERT INTO zone (apex, contact, serial, refresh, retry, expire, negative, ttl, servers,
			transfer_to, transfer_key, notify,
				also_ask, template, kind, primary_at, transport, primary_key, reassert_s, mname)
			VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15, $16, $17, $18, $19, $20) RETURNING `+zoneFields,
			z.Apex, z.Contact, z.Serial, z.Refresh, z.Retry, z.Expire, z.Negative, z.TTL, servers, to, z.TransferKey, notify,
			ask, z.Template, z.Kind, endpoint{z.Primary}, z.Transport, z.PrimaryKey, z.Reassert, z.MName)
	} else {
		err = sqlx.GetContext(ctx, q, &r, `UPDATE zone SET contact = $2, refresh = $3, retry = $4, expire = $5, negative = $6, ttl = $7,
			servers = $8, transfer_to = $9, transfer_key = $10, notify = $11, also_ask = $12, template = $13, primary_at = $14,
				transport = $15,
			primary_key = $16, reassert_s = $17, mname = $18, revision = revision + 1, `+nextSerial+` WHERE id = $1 RETURNING `+zoneFields,
			z.ID, z.Contact, z.Refresh, z.Retry, z.Expire, z.Negative, z.TTL, servers, to, z.TransferKey, notify,
			ask, z.Template, endpoint{z.Primary}, z.Transport, z.PrimaryKey, z.Reassert, z.MName)
	}
	return r.zone(), explained(err, "zone", "apex", string(z.Apex))
}

// RemoveZone removes a zone in which no hostname lives.
func (s *Store) RemoveZone(ctx context.Context, z names.Zone) error {
	var used int
	if err := s.db.GetContext(ctx, &used, `SELECT (SELECT count(*) FROM hostname WHERE zone_id = $1) + (SELECT count(*) FROM alias
		WHERE zone_id = $1)`, z.ID); err != nil {
		return err
	}
	if used > 0 {
		return InUse{Kind: "zone", Name: string(z.Apex), By: fmt.Sprintf("%d hostnames and aliases", used)}
	}
	r, err := s.db.ExecContext(ctx, `DELETE FROM zone WHERE id = $1`, z.ID)
	return affected(r, err, "zone", "apex", string(z.Apex))
}

// RaiseSerials sets the serials of zones that were seen with newer ones, as after a restore from a dump.
func (s *Store) RaiseSerials(ctx context.Context, serials map[int64]uint32) error {
	for _, id := range slices.Sorted(maps.Keys(serials)) {
		if _, err := s.db.ExecContext(ctx, `UPDATE zone SET serial = $2 WHERE id = $1`, id, int64(serials[id])); err != nil {
			return err
		}
	}
	return nil
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
