package store

import (
	"context"
	"fmt"
	"strings"
	"time"
)

// The history's tables have a partition for each month. Spans tell of every outcome, rollups of every hour: they are kept
// longer.
const (
	spansKept   = 14 // months
	rollupsKept = 37
)

var partitioned = []struct {
	table string
	kept  int
	fill  int // of a page, in percent: the newest spans grow in place
}{{"span", spansKept, 60}, {"rollup", rollupsKept, 100}}

// EnsurePartitions makes the partitions for the month of now, the three before it and the one after.
func (s *Store) EnsurePartitions(ctx context.Context, now time.Time) error {
	month := monthOf(now)
	for i := -3; i <= 1; i++ {
		from := month.AddDate(0, i, 0)
		for _, p := range partitioned {
			_, err := s.db.ExecContext(ctx, fmt.Sprintf(`CREATE TABLE IF NOT EXISTS %s_%s PARTITION OF %s FOR VALUES FROM ('%s') TO ('%s') WITH (fillfactor = %d)`,
				p.table, from.Format("2006_01"), p.table, from.Format(time.RFC3339), from.AddDate(0, 1, 0).Format(time.RFC3339), p.fill))
			if err != nil {
				return fmt.Errorf("make the history's partition of %s: %w", from.Format("2006-01"), err)
			}
		}
	}
	return nil
}

// DropOldPartitions drops the partitions of months whose time is over, and says which.
func (s *Store) DropOldPartitions(ctx context.Context, now time.Time) (dropped []string, err error) {
	for _, p := range partitioned {
		var names []string
		if err := s.db.SelectContext(ctx, &names, `SELECT relid::regclass::text FROM pg_partition_tree($1::regclass) WHERE isleaf ORDER BY 1`, p.table); err != nil {
			return dropped, err
		}
		for _, name := range names {
			month, err := time.Parse("2006_01", strings.TrimPrefix(name, p.table+"_"))
			if err != nil || !month.AddDate(0, p.kept, 0).Before(monthOf(now)) {
				continue
			}
			if _, err := s.db.ExecContext(ctx, `DROP TABLE `+name); err != nil {
				return dropped, err
			}
			dropped = append(dropped, name)
		}
	}
	return dropped, nil
}

func monthOf(t time.Time) time.Time {
	return time.Date(t.UTC().Year(), t.UTC().Month(), 1, 0, 0, 0, 0, time.UTC)
}
