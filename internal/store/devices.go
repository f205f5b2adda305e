package store

import (
	"context"
	"net/netip"

	"github.com/jmoiron/sqlx"

	"inkpost.example/inkpost/internal/core/site"
)

type deviceRow struct {
	ID       int64  `db:"id"`
	SiteID   int64  `db:"site_id"`
	Name     string `db:"name"`
	MAC      string `db:"mac"`
	Address  inet   `db:"address"`
	Reserved bool   `db:"reserved"`
	IPv6     inet   `db:"ipv6"`
	Router   bool   `db:"router"`
	Kit      string `db:"kit"`
	Revision int64  `db:"revision"`
}

func (r deviceRow) device() site.Device {
	return site.Device{ID: r.ID, SiteID: r.SiteID, Name: r.Name, MAC: r.MAC, Address: r.Address.Addr, Reserved: r.Reserved,
		IPv6: r.IPv6.Addr, Router: r.Router, Kit: r.Kit, Revision: r.Revision}
}

const deviceColumns = `SELECT id, site_id, name, mac, host(address) AS address, reserved, host(ipv6) AS ipv6, router, kit, revision FROM
	device`

// Devices lists the devices of a site by name; siteID 0 lists those of all sites.
func (s *Store) Devices(ctx context.Context, siteID int64) ([]site.Device, error) {
	var rows []deviceRow
	err := s.selectOf(ctx, &rows, deviceColumns, "site_id", siteID, "site_id, name")
	out := make([]site.Device, len(rows))
	for i, r := range rows {
		out[i] = r.device()
	}
	return out, err
}

// Device finds a device of a site by its name.
func (s *Store) Device(ctx context.Context, siteID int64, name string) (site.Device, error) {
	var r deviceRow
	err := s.db.GetContext(ctx, &r, deviceColumns+` WHERE site_id = $1 AND name = lower($2)`, siteID, name)
	return r.device(), explained(err, "device", "name", name)
}

// AddDevice records a device and returns its ID.
func (s *Store) AddDevice(ctx context.Context, in site.Device) (int64, error) {
	var id int64
	err := s.db.GetContext(ctx, &id, `INSERT INTO device (site_id, name, mac, address, reserved, router, kit)
		VALUES ($1, $2, $3, $4, $5, $6, $7) RETURNING id`,
		in.SiteID, in.Name, in.MAC, inet{in.Address}, in.Reserved, in.Router, in.Kit)
	return id, explained(err, "device", "name", in.Name)
}

// EditDevice writes the device's fields by its ID.
func (s *Store) EditDevice(ctx context.Context, in site.Device) error {
	r, err := s.db.ExecContext(ctx, `UPDATE device SET name = $2, mac = $3, address = $4, reserved = $5, router = $6,
		revision = revision + 1 WHERE id = $1`,
		in.ID, in.Name, in.MAC, inet{in.Address}, in.Reserved, in.Router)
	return affected(r, err, "device", "name", in.Name)
}

// NoteDeviceIPv6 records the device's current global address.
func (s *Store) NoteDeviceIPv6(ctx context.Context, id int64, a netip.Addr) error {
	_, err := s.db.ExecContext(ctx, `UPDATE device SET ipv6 = $2 WHERE id = $1`, id, inet{a})
	return err
}

// RemoveDevice removes a device that no service is on. Restore brings it back.
func (s *Store) RemoveDevice(ctx context.Context, d site.Device, by Removal) error {
	return s.inTx(ctx, func(tx *sqlx.Tx) error {
		if err := setAside(ctx, tx, "device", d.ID, d.SiteID, d.Name, by); err != nil {
			return err
		}
		r, err := tx.ExecContext(ctx, `DELETE FROM device WHERE id = $1`, d.ID)
		return affected(r, err, "device", "name", d.Name)
	})
}
