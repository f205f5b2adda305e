package store

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jmoiron/sqlx"

	"inkpost.example/inkpost/internal/core/ledger"
)

// The history's tables have a partition for each month. Spans record every outcome, rollups every hour: rollups are kept longer.
const (
	spansKept   = 14 // months
	rollupsKept = 37
)

var partitioned = []struct {
	table, key string
	kept       int
	late       int // months before this one whose rows may still come
	fill       int // of a page, in percent: the newest spans grow in place
}{{"span", "from_at", spansKept, 3, 60}, {"rollup", "day", rollupsKept, 0, 100}}

// EnsurePartitions makes the partitions for the month of now, the one after, and those before it whose rows may still come. Rows of such a
// month that went into the default partition meanwhile are moved.
func (s *Store) EnsurePartitions(ctx context.Context, now time.Time) error {
	month := ledger.MonthOf(now)
	for i := -3; i <= 1; i++ {
		from := month.AddDate(0, i, 0)
		for _, p := range partitioned {
			if i < -p.late {
				continue
			}
			if err := s.ensurePartition(ctx, p.table, p.key, p.fill, from, from.AddDate(0, 1, 0)); err != nil {
				return fmt.Errorf("make the history's partition of %s: %w", from.Format("2006-01"), err)
			}
		}
	}
	return nil
}

func (s *Store) ensurePartition(ctx context.Context, table, key string, fill int, from, to time.Time) error {
	name := table + "_" + from.Format("2006_01")
	bounds := fmt.Sprintf(`FOR VALUES FROM ('%s') TO ('%s')`, from.Format(time.RFC3339), to.Format(time.RFC3339))
	_, err := s.db.ExecContext(ctx, fmt.Sprintf(`CREATE TABLE IF NOT EXISTS %s PARTITION OF %s %s WITH (fillfactor = %d)`, name,
		table, bounds, fill))
	var pg *pgconn.PgError
	if !errors.As(err, &pg) || pg.Code != "23514" { // check_violation: the default partition has such rows
		return err
	}
	return s.inTx(ctx, func(tx *sqlx.Tx) error {
		for _, statement := range []string{
			fmt.Sprintf(`CREATE TABLE %s (LIKE %s INCLUDING DEFAULTS) WITH (fillfactor = %d)`, name, table, fill),
			fmt.Sprintf(`WITH moved AS (DELETE FROM %s_other WHERE %s >= '%s' AND %s < '%s' RETURNING *) INSERT INTO %s SELECT *
				FROM moved`,
				table, key, from.Format(time.RFC3339), key, to.Format(time.RFC3339), name),
			fmt.Sprintf(`ALTER TABLE %s ATTACH PARTITION %s %s`, table, name, bounds),
		} {
			if _, err := tx.ExecContext(ctx, statement); err != nil {
				return err
			}
		}
		return nil
	})
}

// DropOldPartitions drops the partitions of months whose time is over, and says which.
func (s *Store) DropOldPartitions(ctx context.Context, now time.Time) (dropped []string, err error) {
	for _, p := range partitioned {
		var names []string
		if err := s.db.SelectContext(ctx, &names, `SELECT relid::regclass::text FROM pg_partition_tree($1::regclass) WHERE isleaf
			ORDER BY 1`, p.table); err != nil {
			return dropped, err
		}
		for _, name := range names {
			month, err := time.Parse("2006_01", strings.TrimPrefix(name, p.table+"_"))
			if err != nil || !month.AddDate(0, p.kept, 0).Before(ledger.MonthOf(now)) {
				continue
			}
			if _, err := s.db.ExecContext(ctx, `DROP TABLE `+name); err != nil {
				return dropped, err
			}
			dropped = append(dropped, name)
		}
	}
	_, err = s.db.ExecContext(ctx, `DELETE FROM rollup_month WHERE month < $1::date`,
		ledger.MonthOf(now).AddDate(0, -rollupsKept, 0).Format(time.DateOnly))
	return dropped, err
}
