package store

import (
	"bytes"
	"cmp"
	"compress/flate"
	"context"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"

	"inkpost.example/inkpost/internal/core/ledger"
)

const (
	// packedAfter is how long a month is over before its days are packed: until then a day that is late finds its place.
	packedAfter = 3 * 24 * time.Hour
	// packedAtOnce is how many services' months are written by one statement.
	packedAtOnce = 2000
)

// PackMonths packs the days of months that are over, a month and a service a row, and says which months. What is broken off goes on the
// next time, and days that come in meanwhile are packed then: days that stand by themselves count before packed ones.
func (s *Store) PackMonths(ctx context.Context, now time.Time) (packed []string, err error) {
	var parts []string
	if err := s.db.SelectContext(ctx, &parts, `SELECT relid::regclass::text FROM pg_partition_tree('rollup') WHERE isleaf ORDER BY
		1`); err != nil {
		return nil, err
	}
	for _, part := range parts {
		month, err := time.Parse("2006_01", strings.TrimPrefix(part, "rollup_"))
		if err != nil || now.Before(month.AddDate(0, 1, 0).Add(packedAfter)) {
			continue
		}
		rows, err := s.packMonth(ctx, part, month)
		if rows > 0 {
			packed = append(packed, month.Format("2006-01"))
		}
		if err == nil {
			err = s.inTx(ctx, func(tx *sqlx.Tx) error {
				var late bool // one came in meanwhile: it stays until the next time
				if _, err := tx.ExecContext(ctx, `LOCK TABLE `+part+` IN EXCLUSIVE MODE`); err != nil {
					return err
				}
				if err := tx.GetContext(ctx, &late, `SELECT EXISTS (SELECT 1 FROM `+part+`)`); err != nil || late {
					return err
				}
				_, err := tx.ExecContext(ctx, `DROP TABLE `+part)
				return err
			})
		}
		if err != nil {
			return packed, fmt.Errorf("pack the history of %s: %w", month.Format("2006-01"), err)
		}
	}
	return packed, nil
}

// packMonth writes the days of a partition as months, takes them out, and returns how many they were.
func (s *Store) packMonth(ctx context.Context, part string, month time.Time) (rows int, err error) {
	for last := int64(-1 << 63); ; {
		var ids []int64
		if err := s.db.SelectContext(ctx, &ids, `SELECT DISTINCT service_id FROM `+part+` WHERE service_id > $1 ORDER BY 1 LIMIT $2`, last,
			packedAtOnce); err != nil || len(ids) == 0 {
			return rows, err
		}
		last = ids[len(ids)-1]
		days, err := s.daysIn(ctx, part, ids)
		if err != nil {
			return rows, err
		}
		before, err := s.months(ctx, ids, month, month)
		if err != nil {
			return rows, err
		}
		docs := make([][]byte, len(ids))
		var owners []int64 // of the days that are packed, and which
		var dates []string
		for i, id := range ids {
			for _, d := range days[id] {
				owners, dates = append(owners, id), append(dates, d.Start.Format(time.DateOnly))
			}
			docs[i] = squeezed(ledger.PackMonth(laidOver(before[id], days[id])))
		}
		err = s.inTx(ctx, func(tx *sqlx.Tx) error { // what is packed is not packed again, if this is broken off
			if _, err := tx.ExecContext(ctx, `INSERT INTO rollup_month (service_id, month, days)
				SELECT t.id, $1::date, t.days FROM unnest($2::bigint[], $3::bytea[]) AS t(id, days) ORDER BY t.id
				ON CONFLICT (service_id, month) DO UPDATE SET days = excluded.days`, month.Format(time.DateOnly), ids, docs); err != nil {
				return err
			}
			_, err := tx.ExecContext(ctx, `DELETE FROM `+part+` p USING unnest($1::bigint[], $2::date[]) AS t(id, day)
				WHERE p.service_id = t.id AND p.day = t.day`, owners, dates)
			return err
		})
		if err != nil {
			return rows, err
		}
		rows += len(owners)
	}
}

// daysIn lists the days of services that stand in a table by themselves.
func (s *Store) daysIn(ctx context.Context, table string, services []int64) (out map[int64][]ledger.Day, err error) {
	var rows []struct {
		ID      int64     `db:"service_id"`
		Day     time.Time `db:"day"`
		Hours   []byte    `db:"hours"`
		Latency []byte    `db:"latency"`
	}
	out = map[int64][]ledger.Day{}
	err = s.db.SelectContext(ctx, &rows, `SELECT service_id, day, hours, latency FROM `+table+` WHERE service_id = ANY($1)
		ORDER BY service_id, day`, services)
	for _, r := range rows {
		out[r.ID] = append(out[r.ID], ledger.Unpack(r.Day, r.Hours, r.Latency))
	}
	return out, err
}

// months lists the packed days of services in the months from first to last.
func (s *Store) months(ctx context.Context, services []int64, first, last time.Time) (map[int64][]ledger.Day, error) {
	var rows []struct {
		ID    int64     `db:"service_id"`
		Month time.Time `db:"month"`
		Days  []byte    `db:"days"`
	}
	out := map[int64][]ledger.Day{}
	err := s.db.SelectContext(ctx, &rows, `SELECT service_id, month, days FROM rollup_month WHERE service_id = ANY($1)
		AND month BETWEEN $2::date AND $3::date ORDER BY service_id, month`, services, first.Format(time.DateOnly),
		last.Format(time.DateOnly))
	for _, r := range rows {
		out[r.ID] = append(out[r.ID], ledger.UnpackMonth(r.Month, unsqueezed(r.Days))...)
	}
	return out, err
}

// laidOver puts days together, in order; those of over count where both have one.
func laidOver(under, over []ledger.Day) []ledger.Day {
	if len(under) == 0 {
		return over
	}
	all := append(slices.Clone(over), under...)
	slices.SortStableFunc(all, func(a, b ledger.Day) int { return cmp.Compare(a.Start.Unix(), b.Start.Unix()) })
	return slices.CompactFunc(all, func(a, b ledger.Day) bool { return a.Start.Equal(b.Start) })
}

// maxMonth bounds a packed month, in octets: 31 days of which each hour and each latency is another.
const maxMonth = 31 * 4096

// squeezed compresses a month (RFC 1951).
func squeezed(plain []byte) []byte {
	var out bytes.Buffer
	w, _ := flate.NewWriter(&out, flate.BestCompression) // the level is a valid one
	_, _ = w.Write(plain)                                // a buffer takes everything
	_ = w.Close()
	return out.Bytes()
}

// unsqueezed is what squeezed was given. What cannot be read is left out.
func unsqueezed(doc []byte) []byte {
	plain, _ := io.ReadAll(io.LimitReader(flate.NewReader(bytes.NewReader(doc)), maxMonth))
	return plain
}
