package store

import (
	"context"
	"strconv"
	"time"

	"inkpost.example/inkpost/internal/core/site"
)

// PushSubscription is a browser that wants to be told what concerns a person.
type PushSubscription struct {
	ID       int64
	Person   string
	Endpoint string
	P256DH   string
	Auth     string
	Label    string
	Created  time.Time
}

// PushSubscriptions lists the browsers of a person by their name, or of all where that is empty.
func (s *Store) PushSubscriptions(ctx context.Context, person string) ([]PushSubscription, error) {
	var rows []struct {
		ID       int64  `db:"id"`
		Person   string `db:"person"`
		Endpoint string `db:"endpoint"`
		P256DH   string `db:"p256dh"`
		Auth     string `db:"auth"`
		Label    string `db:"label"`
		Created  when   `db:"created_at"`
	}
	err := s.db.SelectContext(ctx, &rows, `SELECT s.id, p.name AS person, s.endpoint, s.p256dh, s.auth, s.label, s.created_at
		FROM push_subscription s JOIN person p ON p.id = s.person_id WHERE $1 = '' OR p.name = $1 ORDER BY s.id`, person)
	out := make([]PushSubscription, len(rows))
	for i, r := range rows {
		out[i] = PushSubscription{r.ID, r.Person, r.Endpoint, r.P256DH, r.Auth, r.Label, r.Created.Time}
	}
	return out, err
}

// maxBrowsers is how many browsers a person may be told by.
const maxBrowsers = 20

// AddPushSubscription records a browser of a person, or takes over one that is on record, and returns its ID. Error: site.Flaws where the
// person has too many.
func (s *Store) AddPushSubscription(ctx context.Context, personID int64, p PushSubscription) (id int64, err error) {
	err = s.db.GetContext(ctx, &id, `INSERT INTO push_subscription (person_id, endpoint, p256dh, auth, label, created_at)
		SELECT $1, $2, $3, $4, $5, $6 WHERE (SELECT count(*) FROM push_subscription WHERE person_id = $1 AND endpoint <> $2) < $7
		ON CONFLICT (endpoint) DO UPDATE SET person_id = excluded.person_id, p256dh = excluded.p256dh, auth = excluded.auth,
			label = excluded.label RETURNING id`, personID, p.Endpoint, p.P256DH, p.Auth, p.Label, p.Created, maxBrowsers)
	if _, missing := explained(err, "", "", "").(Missing); missing {
		return 0, site.Flaws{{Field: "endpoint", Detail: "you have " + strconv.Itoa(maxBrowsers) + " browsers already; remove one first"}}
	}
	return id, err
}

// RemovePushSubscription removes a browser of a person, or of whoever where personID is 0. Error: Missing.
func (s *Store) RemovePushSubscription(ctx context.Context, personID, id int64) error {
	r, err := s.db.ExecContext(ctx, `DELETE FROM push_subscription WHERE id = $2 AND ($1 = 0 OR person_id = $1)`, personID, id)
	return affected(r, err, "browser", "id", strconv.FormatInt(id, 10))
}

// PushKeys returns the keys by which push services know this installation; empty before PutPushKeys.
func (s *Store) PushKeys(ctx context.Context) (public, private string, err error) {
	var row struct {
		Public  string `db:"push_public"`
		Private string `db:"push_private"`
	}
	err = s.db.GetContext(ctx, &row, `SELECT push_public, push_private FROM installation`)
	if err == nil {
		err = s.unseal(pushKeys, &row.Private)
	}
	return row.Public, row.Private, err
}

// PutPushKeys keeps the keys by which push services know this installation, unless there are some.
func (s *Store) PutPushKeys(ctx context.Context, public, private string) error {
	_, err := s.db.ExecContext(ctx, `UPDATE installation SET push_public = $1, push_private = $2 WHERE push_public = ''`, public,
		s.ring.Seal(pushKeys, private))
	return err
}
