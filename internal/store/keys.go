package store

import (
	"context"
	"maps"
	"net/netip"
	"slices"
	"time"

	"github.com/jmoiron/sqlx"

	"inkpost.example/inkpost/internal/core/team"
)

// Key scopes.
const (
	ScopePerson = "person"
	ScopeAgent  = "agent"
	ScopeRouter = "router"

	ScopeVantage = "vantage"

	ScopeCalendar = "calendar" // reads one calendar by its URL, and nothing else
)

// Key is an access key. Its secret is known by its hash only.
type Key struct {
	ID       int64      `db:"id"`
	Hash     []byte     `db:"hash"`
	Scope    string     `db:"scope"`
	Label    string     `db:"label"`
	PersonID ref        `db:"person_id"`
	Person   string     `db:"person"`
	Rights              // of the person
	May      team.Right `db:"may"` // what a key of a person is made for
	LinkID   ref        `db:"link_id"`
	Site     string     `db:"site"`
	Link     string     `db:"link"`
	Created  when       `db:"created_at"`
	Revoked  when       `db:"revoked_at"`
	Replaces ref        `db:"replaces"` // the key that this one takes the place of
	Rotate   bool       `db:"rotate"`   // somebody asked for another key in its place

	VantageID ref    `db:"vantage_id"`
	Vantage   string `db:"vantage"`

	Expires when `db:"expires_at"` // zero never
	Used    when `db:"used_at"`
	// MayAnnounce are the prefixes in which the key may announce addresses that are not its connection's.
	MayAnnounce list[netip.Prefix] `db:"may_announce"`
}

// Purpose is what a key is made for: to read, probe, edit or announce.
func Purpose(scope string, may team.Right) string {
	switch scope {
	case ScopeAgent, ScopeRouter:
		return "announce"
	case ScopeVantage:
		return string(team.Probe)
	}
	return string(may)
}

const keyColumns = `SELECT k.id, k.hash, k.scope, k.label, k.person_id, coalesce(p.name, '') AS person,
	coalesce(p.role, '') AS role, coalesce(p.tags, '[]') AS tags, k.may, k.link_id,
	coalesce(s.code, '') AS site,
	coalesce(l.label, '') AS link, k.created_at, k.revoked_at, k.replaces, k.rotate,
	k.vantage_id, coalesce(v.name, '') AS vantage, k.expires_at, k.used_at, k.may_announce
	FROM access_key k LEFT JOIN person p ON p.id = k.person_id LEFT JOIN link l ON l.id = k.link_id LEFT JOIN site s ON s.id = l.site_id
	LEFT JOIN vantage v ON v.id = k.vantage_id`

// AddPersonKey records a key of a person under the hash of its secret: of the scope person, or calendar.
func (s *Store) AddPersonKey(ctx context.Context, hash []byte, scope string, personID int64, label string, may team.Right,
	expires time.Time) (id int64, err error) {
	err = s.db.GetContext(ctx, &id, `INSERT INTO access_key (hash, scope, label, person_id, expires_at, may)
		VALUES ($1, $2, $3, $4, $5, $6) RETURNING id`, hash, scope, label, personID, when{expires}, may)
	return id, err
}

// AddLinkKey records a key with which a router announces for a link.
func (s *Store) AddLinkKey(ctx context.Context, hash []byte, linkID int64, label string, mayAnnounce []netip.Prefix) (id int64, err error) {
	err = s.db.GetContext(ctx, &id, `INSERT INTO access_key (hash, scope, label, link_id, may_announce)
		VALUES ($1, 'router', $2, $3, $4) RETURNING id`,
		hash, label, linkID, list[netip.Prefix](mayAnnounce))
	return id, err
}

// KeyByHash finds a key, revoked ones too.
func (s *Store) KeyByHash(ctx context.Context, hash []byte) (Key, error) {
	var k Key
	err := s.db.GetContext(ctx, &k, keyColumns+` WHERE k.hash = $1`, hash)
	return k, explained(err, "key", "", "of that secret")
}

// AllowKey sets the prefixes in which a link's key may announce addresses that are not its connection's.
func (s *Store) AllowKey(ctx context.Context, id int64, name string, mayAnnounce []netip.Prefix) error {
	r, err := s.db.ExecContext(ctx, `UPDATE access_key SET may_announce = $2 WHERE id = $1 AND link_id IS NOT NULL
		AND revoked_at IS NULL`, id, list[netip.Prefix](mayAnnounce))
	return affected(r, err, "key of a link", "", name)
}

// NoteKeyUse writes when keys were last used.
func (s *Store) NoteKeyUse(ctx context.Context, used map[int64]time.Time) error {
	ids := slices.Sorted(maps.Keys(used))
	times := make([]time.Time, 0, len(used))
	for _, id := range ids {
		times = append(times, used[id])
	}
	return s.soon(ctx, `UPDATE access_key SET used_at = t.at FROM unnest($1::bigint[], $2::timestamptz[]) AS t(id, at)
		WHERE access_key.id = t.id`, ids, times)
}

// Keys lists all keys, the newest first.
func (s *Store) Keys(ctx context.Context) ([]Key, error) {
	var out []Key
	err := s.db.SelectContext(ctx, &out, keyColumns+` ORDER BY k.id DESC`)
	return out, err
}

// KeysOf lists the keys of the links of a site.
func (s *Store) KeysOf(ctx context.Context, siteID int64) ([]Key, error) {
	var out []Key
	err := s.db.SelectContext(ctx, &out, keyColumns+` WHERE l.site_id = $1`, siteID)
	return out, err
}

// KeysByID lists some keys.
func (s *Store) KeysByID(ctx context.Context, ids []int64) ([]Key, error) {
	var out []Key
	err := s.db.SelectContext(ctx, &out, keyColumns+` WHERE k.id = ANY($1::bigint[])`, ids)
	return out, err
}

// KeysOfVantage lists the keys of a vantage point.
func (s *Store) KeysOfVantage(ctx context.Context, vantageID int64) ([]Key, error) {
	var out []Key
	err := s.db.SelectContext(ctx, &out, keyColumns+` WHERE k.vantage_id = $1`, vantageID)
	return out, err
}

// RevokeKey makes a key useless from now on.
func (s *Store) RevokeKey(ctx context.Context, id int64, name string, now time.Time) error {
	r, err := s.db.ExecContext(ctx, `UPDATE access_key SET revoked_at = coalesce(revoked_at, $2) WHERE id = $1`, id, now)
	return affected(r, err, "key", "", name)
}

// RevokePersonKeys makes all keys of a person useless from now on.
func (s *Store) RevokePersonKeys(ctx context.Context, name string, now time.Time) error {
	_, err := s.db.ExecContext(ctx, `UPDATE access_key SET revoked_at = $2 FROM person p WHERE p.id = person_id AND p.name = $1
		AND revoked_at IS NULL`, name, now)
	return err
}

// RotateKey asks for another key in a key's place.
func (s *Store) RotateKey(ctx context.Context, id int64, name string) error {
	r, err := s.db.ExecContext(ctx, `UPDATE access_key SET rotate = true WHERE id = $1 AND scope = 'agent' AND revoked_at IS NULL`, id)
	return affected(r, err, "agent key", "", name)
}

// SucceedKey records a key that takes the place of another of an agent; one that was made for that before, and never used, is gone.
func (s *Store) SucceedKey(ctx context.Context, old int64, hash []byte, now time.Time) error {
	return s.inTx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `UPDATE access_key SET revoked_at = $2 WHERE replaces = $1 AND revoked_at IS NULL`, old,
			now); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `INSERT INTO access_key (hash, scope, label, link_id, may_announce, replaces)
			SELECT $2, scope, label, link_id, may_announce, id FROM access_key WHERE id = $1`, old, hash)
		return err
	})
}

// SettleKey revokes the key that a new one, which is in use now, took the place of.
func (s *Store) SettleKey(ctx context.Context, id int64, now time.Time) error {
	return s.inTx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `UPDATE access_key SET revoked_at = coalesce(revoked_at, $2)
			WHERE id = (SELECT replaces FROM access_key WHERE id = $1)`, id, now); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `UPDATE access_key SET replaces = NULL WHERE id = $1`, id)
		return err
	})
}

// AddEnrolment records a one-time code for an agent of a link under the code's hash.
func (s *Store) AddEnrolment(ctx context.Context, codeHash []byte, linkID int64, expires time.Time, mayAnnounce []netip.Prefix) error {
	_, err := s.db.ExecContext(ctx, `INSERT INTO enrolment (code_hash, link_id, expires_at, may_announce) VALUES ($1, $2, $3, $4)`,
		codeHash, linkID, expires, list[netip.Prefix](mayAnnounce))
	return err
}

// Enrol uses up a one-time code and records the agent's key, both or neither. A code that is unknown, used or expired is
// Missing. It returns the link.
func (s *Store) Enrol(ctx context.Context, codeHash, keyHash []byte, label string, now time.Time) (linkID int64, err error) {
	err = s.db.GetContext(ctx, &linkID, `WITH used AS (
			UPDATE enrolment SET used_at = $4 WHERE code_hash = $1 AND used_at IS NULL AND expires_at > $4 AND link_id IS NOT NULL
				RETURNING link_id, may_announce)
		INSERT INTO access_key (hash, scope, label, link_id, may_announce) SELECT $2, 'agent', $3, link_id, may_announce FROM used
			RETURNING link_id`,
		codeHash, keyHash, label, now)
	return linkID, explained(err, "enrolment code", "code", "given")
}
