package store

import (
	"context"
	"encoding/json"
	"errors"
	"strconv"
	"time"

	"inkpost.example/inkpost/internal/core/notice"
)

// States of a delivery.
const (
	DeliveryWaiting = "waiting"
	DeliverySent    = "sent"
	DeliveryFailed  = "failed" // given up
)

// Delivery is the way of a notice to its recipient.
type Delivery struct {
	ID      int64
	Notice  Notice
	Way     notice.Way
	State   string
	Tries   int
	Since   time.Time // when it was written, or sent on its way again
	Done    time.Time
	Target  string // where it went: an address or a URL
	Problem string // of the last try
	PushID  int64  // the browser that it goes to; 0 for none
}

// DeliveryFilter narrows a list of deliveries. Zero fields do not narrow.
type DeliveryFilter struct {
	ID     int64
	State  string
	Before int64
	Limit  int
}

// Deliveries lists deliveries, the newest first.
func (s *Store) Deliveries(ctx context.Context, f DeliveryFilter) ([]Delivery, error) {
	var rows []struct {
		ID       int64  `db:"id"`
		NoticeID int64  `db:"notice_id"`
		To       string `db:"recipient"`
		Content  []byte `db:"content"`
		Decided  when   `db:"decided_at"`
		Way      string `db:"way"`
		State    string `db:"state"`
		Tries    int    `db:"tries"`
		Since    when   `db:"since_at"`
		Done     when   `db:"done_at"`
		Target   string `db:"target"`
		Problem  string `db:"problem"`
		PushID   ref    `db:"push_id"`
	}
	err := s.db.SelectContext(ctx, &rows, `SELECT d.id, d.notice_id, n.recipient, n.content, n.decided_at, d.way, d.state, d.tries,
		d.since_at,
		d.done_at, d.target, d.problem, d.push_id FROM delivery d JOIN notice n ON n.id = d.notice_id
		WHERE ($1 = 0 OR d.id = $1) AND ($2 = '' OR d.state = $2) AND ($3 = 0 OR d.id < $3) ORDER BY d.id DESC LIMIT $4`, f.ID, f.State,
		f.Before, f.Limit)
	out := make([]Delivery, len(rows))
	for i, r := range rows {
		out[i] = Delivery{ID: r.ID, Notice: Notice{ID: r.NoticeID, To: r.To, Decided: r.Decided.Time}, Way: notice.Way(r.Way),
			State: r.State,
			Tries: r.Tries, Since: r.Since.Time, Done: r.Done.Time, Target: r.Target, Problem: r.Problem, PushID: int64(r.PushID)}
		if err := json.Unmarshal(r.Content, &out[i].Notice.Content); err != nil {
			return nil, err
		}
	}
	return out, err
}

// WaitingDeliveries lists the IDs of deliveries that are not done, the oldest first.
func (s *Store) WaitingDeliveries(ctx context.Context, limit int) (ids []int64, err error) {
	err = s.db.SelectContext(ctx, &ids, `SELECT id FROM delivery WHERE state = 'waiting' ORDER BY id LIMIT $1`, limit)
	return ids, err
}

// PutDelivery writes how a delivery went: its state, tries, target, problem and when it was done.
func (s *Store) PutDelivery(ctx context.Context, d Delivery) error {
	_, err := s.db.ExecContext(ctx, `UPDATE delivery SET state = $2, tries = $3, done_at = $4, target = $5, problem = $6 WHERE id = $1`,
		d.ID,
		d.State, d.Tries, when{d.Done}, d.Target, d.Problem)
	return err
}

// SendAgain sends a delivery that was given up on its way again. Error: Missing where there is none that was.
func (s *Store) SendAgain(ctx context.Context, id int64, now time.Time) error {
	r, err := s.db.ExecContext(ctx, `UPDATE delivery SET state = 'waiting', since_at = $2, done_at = NULL WHERE id = $1 AND state =
		'failed'`, id,
		now)
	return affected(r, err, "delivery that was given up", "id", strconv.FormatInt(id, 10))
}

// PersonMail is where mail to a person goes, and the time zone that they live by. Both may be "".
type PersonMail struct {
	Name string `db:"name"`
	Mail string `db:"mail"`
	Zone string `db:"zone"`
}

// PeopleMail lists the people on record with their addresses.
func (s *Store) PeopleMail(ctx context.Context) (out []PersonMail, err error) {
	err = s.db.SelectContext(ctx, &out, `SELECT name, mail, zone FROM person ORDER BY name`)
	return out, err
}

// PutPersonMail sets where mail to a person goes, and their time zone. Error: Missing.
func (s *Store) PutPersonMail(ctx context.Context, p PersonMail) error {
	r, err := s.db.ExecContext(ctx, `UPDATE person SET mail = $2, zone = $3 WHERE name = $1`, p.Name, p.Mail, p.Zone)
	return affected(r, err, "person", "name", p.Name)
}

// Hook is a webhook that notices go to.
type Hook struct {
	ID      int64  `db:"id"`
	Name    string `db:"name"`
	URL     string `db:"url"`
	Secret  string `db:"secret"`
	Created when   `db:"created_at"`
}

// Hooks lists webhooks by name.
func (s *Store) Hooks(ctx context.Context) (out []Hook, err error) {
	err = s.db.SelectContext(ctx, &out, `SELECT id, name, url, secret, created_at FROM hook ORDER BY name`)
	for i := range out {
		err = errors.Join(err, s.unseal(hookSecrets, &out[i].Secret))
	}
	return out, err
}

// AddHook records a webhook. Error: Taken.
func (s *Store) AddHook(ctx context.Context, h Hook) error {
	_, err := s.db.ExecContext(ctx, `INSERT INTO hook (name, url, secret) VALUES ($1, $2, $3)`, h.Name, h.URL, s.ring.Seal(hookSecrets,
		h.Secret))
	return explained(err, "hook", "name", h.Name)
}

// RemoveHook removes a webhook with its rules. Error: Missing.
func (s *Store) RemoveHook(ctx context.Context, name string) error {
	r, err := s.db.ExecContext(ctx, `DELETE FROM hook WHERE name = $1`, name)
	return affected(r, err, "hook", "name", name)
}
