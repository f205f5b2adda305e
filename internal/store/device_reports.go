package store

import (
	"context"
	"time"
)

// DeviceReport is the newest that an agent reported of a device, as JSON.
type DeviceReport struct {
	DeviceID int64     `db:"device_id"`
	LinkID   int64     `db:"link_id"`
	At       time.Time `db:"seen_at"`
	Doc      []byte    `db:"doc"`
}

// DeviceReports lists the newest report of each device.
func (s *Store) DeviceReports(ctx context.Context) ([]DeviceReport, error) {
	var out []DeviceReport
	err := s.db.SelectContext(ctx, &out, `SELECT device_id, link_id, seen_at, doc FROM device_report`)
	return out, err
}

// NoteDeviceReports writes the newest report of each device that is still on record.
func (s *Store) NoteDeviceReports(ctx context.Context, list []DeviceReport) error {
	n := len(list)
	devices, links, at, docs := make([]int64, n), make([]int64, n), make([]time.Time, n), make([]string, n)
	for i, g := range list {
		devices[i], links[i], at[i], docs[i] = g.DeviceID, g.LinkID, g.At, string(g.Doc)
	}
	return s.soon(ctx, `INSERT INTO device_report (device_id, link_id, seen_at, doc)
		SELECT t.* FROM unnest($1::bigint[], $2::bigint[], $3::timestamptz[], $4::jsonb[]) AS t(device_id, link_id, at, doc)
		JOIN device ON device.id = t.device_id JOIN link ON link.id = t.link_id
		ON CONFLICT (device_id) DO UPDATE SET link_id = excluded.link_id, seen_at = excluded.seen_at, doc = excluded.doc`, devices,
		links, at, docs)
}
