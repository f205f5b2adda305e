package store

import (
	"context"
	"encoding/json"
	"strconv"
	"time"

	"github.com/jmoiron/sqlx"

	"inkpost.example/inkpost/internal/core/notice"
	"inkpost.example/inkpost/internal/core/team"
)

// NoticeRules lists the rules of notices, the oldest first.
func (s *Store) NoticeRules(ctx context.Context) ([]notice.Rule, error) {
	var rows []struct {
		ID      int64        `db:"id"`
		Person  string       `db:"person"`
		Hook    string       `db:"hook"`
		Rule    []byte       `db:"rule"`
		Tags    list[string] `db:"tags"`
		Created when         `db:"created_at"`
	}
	err := s.db.SelectContext(ctx, &rows, `SELECT r.id, coalesce(p.name, '') AS person, coalesce(h.name, '') AS hook, r.rule, r.created_at,
		coalesce(p.tags, '[]') AS tags
		FROM notice_rule r LEFT JOIN person p ON p.id = r.person_id LEFT JOIN hook h ON h.id = r.hook_id ORDER BY r.id`)
	out := make([]notice.Rule, len(rows))
	for i, r := range rows {
		if err := json.Unmarshal(r.Rule, &out[i]); err != nil {
			return nil, err
		}
		out[i].ID, out[i].Person, out[i].Hook, out[i].Created = r.ID, r.Person, r.Hook, r.Created.Time
		out[i].Sight = team.Sight(r.Tags)
	}
	return out, err
}

// AddNoticeRule records a rule and returns its ID. Error: Missing where its person or hook is.
func (s *Store) AddNoticeRule(ctx context.Context, r notice.Rule) (id int64, err error) {
	doc, err := json.Marshal(r)
	if err != nil {
		return 0, err
	}
	kind, table, name := "person", "person", r.Person
	if r.Hook != "" {
		kind, table, name = "hook", "hook", r.Hook
	}
	err = s.db.GetContext(ctx, &id, `INSERT INTO notice_rule (`+kind+`_id, rule, created_at) SELECT id, $2, $3 FROM `+table+`
		WHERE name = $1 RETURNING id`, name, doc, r.Created)
	return id, explained(err, kind, "name", name)
}

// EditNoticeRule changes a rule, and not whose it is. Error: Missing.
func (s *Store) EditNoticeRule(ctx context.Context, r notice.Rule) error {
	doc, err := json.Marshal(r)
	if err != nil {
		return err
	}
	done, err := s.db.ExecContext(ctx, `UPDATE notice_rule SET rule = $2 WHERE id = $1`, r.ID, doc)
	return affected(done, err, "rule", "id", strconv.FormatInt(r.ID, 10))
}

// RemoveNoticeRule removes a rule. Error: Missing.
func (s *Store) RemoveNoticeRule(ctx context.Context, id int64) error {
	r, err := s.db.ExecContext(ctx, `DELETE FROM notice_rule WHERE id = $1`, id)
	return affected(r, err, "rule", "id", strconv.FormatInt(id, 10))
}

// Installation is what this installation is called in the IDs of its messages.
func (s *Store) Installation(ctx context.Context) (name string, err error) {
	err = s.db.GetContext(ctx, &name, `SELECT name FROM installation`)
	return name, err
}

// NoticeItem is one thing that a notice tells. What has a key is told to a recipient once.
type NoticeItem struct {
	Key  string
	Item notice.Item
	At   time.Time // when it was decided
	To   string
}

// Notice is one message to one recipient.
type Notice struct {
	ID      int64
	To      string
	Content notice.Content
	Decided time.Time
}

// AddNotice records a notice with a delivery for each way, and returns their IDs; none where one of its items was told already.
func (s *Store) AddNotice(ctx context.Context, n Notice, ways []notice.Way, items []NoticeItem) (deliveries []int64, err error) {
	content, err := json.Marshal(n.Content)
	if err != nil {
		return nil, err
	}
	err = s.inTx(ctx, func(tx *sqlx.Tx) error {
		if err := tx.GetContext(ctx, &n.ID, `INSERT INTO notice (recipient, content, decided_at) VALUES ($1, $2, $3) RETURNING id`, n.To,
			content, n.Decided); err != nil {
			return err
		}
		for _, i := range items {
			doc, err := json.Marshal(i.Item)
			if err != nil {
				return err
			}
			if _, err := tx.ExecContext(ctx, `INSERT INTO notice_item (notice_id, recipient, key, item) VALUES ($1, $2, $3, $4)`, n.ID,
				n.To,
				i.Key, doc); err != nil {
				return explained(err, "notice", "key", i.Key)
			}
		}
		for _, w := range ways {
			var ids []int64
			if w == notice.ByPush { // one for each browser; one that says that there is none
				if err := tx.SelectContext(ctx, &ids, `INSERT INTO delivery (notice_id, way, since_at, push_id) SELECT $1, $2, $3, s.id
					FROM push_subscription s JOIN person p ON p.id = s.person_id WHERE 'person ' || p.name = $4 ORDER BY s.id RETURNING
						id`, n.ID,
					string(w), n.Decided, n.To); err != nil {
					return err
				}
			}
			if len(ids) == 0 {
				if err := tx.SelectContext(ctx, &ids, `INSERT INTO delivery (notice_id, way, since_at) VALUES ($1, $2, $3) RETURNING id`,
					n.ID,
					string(w), n.Decided); err != nil {
					return err
				}
			}
			deliveries = append(deliveries, ids...)
		}
		return nil
	})
	return deliveries, err
}

// ToldSince lists what was told since a moment, and of faults that are still open whenever that was, in the order in which it was.
func (s *Store) ToldSince(ctx context.Context, since time.Time) (out []NoticeItem, err error) {
	var rows []struct {
		Key  string `db:"key"`
		To   string `db:"recipient"`
		Item []byte `db:"item"`
		At   when   `db:"decided_at"`
	}
	err = s.db.SelectContext(ctx, &rows, `SELECT i.key, i.recipient, i.item, n.decided_at FROM notice_item i JOIN notice n ON n.id =
		i.notice_id
		WHERE n.decided_at >= $1 OR (i.item->>'FaultID')::bigint IN (SELECT id FROM fault WHERE closed_at IS NULL OR closed_at >= $1)
		ORDER BY n.id, i.key`, since)
	for _, r := range rows {
		i := NoticeItem{Key: r.Key, To: r.To, At: r.At.Time}
		if err := json.Unmarshal(r.Item, &i.Item); err != nil {
			return nil, err
		}
		out = append(out, i)
	}
	return out, err
}

// DropNotices removes what was decided before a moment, is not on its way any more, and is not about a fault that is open.
func (s *Store) DropNotices(ctx context.Context, before time.Time) error {
	_, err := s.db.ExecContext(ctx, `DELETE FROM notice n WHERE decided_at < $1
		AND NOT EXISTS (SELECT FROM delivery d WHERE d.notice_id = n.id AND d.state = 'waiting')
		AND NOT EXISTS (SELECT FROM notice_item i JOIN fault f ON f.id = (i.item->>'FaultID')::bigint
			WHERE i.notice_id = n.id AND f.closed_at IS NULL)`, before)
	return err
}
