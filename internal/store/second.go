package store

import (
	"context"
	"encoding/json"
	"strconv"
	"time"

	"github.com/jmoiron/sqlx"
)

// Second is what somebody has beside their password.
type Second struct {
	TOTP     string `db:"totp_secret"` // the secret of their authenticator; "" for none
	Step     int64  `db:"totp_step"`   // of its last code that was used
	Handle   []byte `db:"handle"`      // by which authenticators know them
	Codes    int    `db:"codes"`       // for when the authenticator is lost
	Passkeys int    `db:"passkeys"`
}

// Has reports whether there is a second factor.
func (s Second) Has() bool { return s.TOTP != "" || s.Passkeys > 0 }

// SecondOf returns what somebody has beside their password. Error: Missing.
func (s *Store) SecondOf(ctx context.Context, personID int64) (out Second, err error) {
	err = s.db.GetContext(ctx, &out, `SELECT totp_secret, totp_step, handle,
		(SELECT count(*) FROM recovery_code WHERE person_id = person.id) AS codes,
		(SELECT count(*) FROM passkey WHERE person_id = person.id) AS passkeys FROM person WHERE id = $1`, personID)
	if err == nil {
		err = s.unseal(totpSecrets, &out.TOTP)
	}
	return out, explained(err, "person", "id", strconv.FormatInt(personID, 10))
}

// SetTOTP sets the secret of somebody's authenticator, of which a code was used; "" takes it away.
func (s *Store) SetTOTP(ctx context.Context, personID int64, secret string, step int64) error {
	_, err := s.db.ExecContext(ctx, `UPDATE person SET totp_secret = $2, totp_step = $3 WHERE id = $1`, personID, s.ring.Seal(totpSecrets,
		secret), step)
	return err
}

// UseStep notes that the code of a step is used, and reports whether neither it nor a later one was before.
func (s *Store) UseStep(ctx context.Context, personID, step int64) (fresh bool, err error) {
	r, err := s.db.ExecContext(ctx, `UPDATE person SET totp_step = $2 WHERE id = $1 AND totp_step < $2`, personID, step)
	if err != nil {
		return false, err
	}
	n, err := r.RowsAffected()
	return n == 1, err
}

// SetRecoveryCodes puts other codes in the place of somebody's.
func (s *Store) SetRecoveryCodes(ctx context.Context, personID int64, hashes [][]byte) error {
	return s.inTx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `DELETE FROM recovery_code WHERE person_id = $1`, personID); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `INSERT INTO recovery_code SELECT $1, unnest($2::bytea[])`, personID, hashes)
		return err
	})
}

// UseRecoveryCode uses a code up, and reports whether it was good.
func (s *Store) UseRecoveryCode(ctx context.Context, personID int64, hash []byte) (good bool, err error) {
	r, err := s.db.ExecContext(ctx, `DELETE FROM recovery_code WHERE person_id = $1 AND code_hash = $2`, personID, hash)
	if err != nil {
		return false, err
	}
	n, err := r.RowsAffected()
	return n == 1, err
}

// Passkey is a key pair in somebody's authenticator, of which the public half is here.
type Passkey struct {
	ID         int64           `db:"id"`
	PersonID   int64           `db:"person_id"`
	Credential json.RawMessage `db:"credential"`
	Label      string          `db:"label"`
	Created    when            `db:"created_at"`
	Used       when            `db:"used_at"`
}

const passkeyColumns = `SELECT id, person_id, credential, label, created_at, used_at FROM passkey`

// PasskeysOf lists somebody's passkeys, the oldest first.
func (s *Store) PasskeysOf(ctx context.Context, personID int64) (out []Passkey, err error) {
	err = s.db.SelectContext(ctx, &out, passkeyColumns+` WHERE person_id = $1 ORDER BY id`, personID)
	return out, err
}

// AddPasskey records a passkey, and the handle by which its authenticator knows the person. Error: Taken where somebody has it.
func (s *Store) AddPasskey(ctx context.Context, p Passkey, credentialID, handle []byte) (id int64, err error) {
	err = s.inTx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `UPDATE person SET handle = $2 WHERE id = $1`, p.PersonID, handle); err != nil {
			return err
		}
		return tx.GetContext(ctx, &id, `INSERT INTO passkey (person_id, credential_id, credential, label, created_at)
			VALUES ($1, $2, $3, $4, $5) RETURNING id`, p.PersonID, credentialID, string(p.Credential), p.Label, p.Created)
	})
	return id, explained(err, "passkey", "credential", "of this authenticator")
}

// UsePasskey writes what a passkey is after it was used, such as how often.
func (s *Store) UsePasskey(ctx context.Context, id int64, credential json.RawMessage, now time.Time) error {
	_, err := s.db.ExecContext(ctx, `UPDATE passkey SET credential = $2, used_at = $3 WHERE id = $1`, id, string(credential), now)
	return err
}

// RemovePasskey removes a passkey of somebody. Error: Missing.
func (s *Store) RemovePasskey(ctx context.Context, personID, id int64) error {
	r, err := s.db.ExecContext(ctx, `DELETE FROM passkey WHERE id = $1 AND person_id = $2`, id, personID)
	return affected(r, err, "passkey", "id", strconv.FormatInt(id, 10))
}

// PersonByHandle finds somebody by the handle by which their authenticator knows them. Error: Missing.
func (s *Store) PersonByHandle(ctx context.Context, handle []byte) (p Person, err error) {
	err = s.db.GetContext(ctx, &p, personColumns+` WHERE handle = $1`, handle)
	return p, explained(err, "person", "handle", "given")
}

// OwnersNeedSecond reports whether owners have to have a second factor.
func (s *Store) OwnersNeedSecond(ctx context.Context) (need bool, err error) {
	err = s.db.GetContext(ctx, &need, `SELECT coalesce(bool_or(owners_second), false) FROM installation`)
	return need, err
}

// SetOwnersNeedSecond sets whether owners have to have a second factor.
func (s *Store) SetOwnersNeedSecond(ctx context.Context, need bool) error {
	_, err := s.db.ExecContext(ctx, `UPDATE installation SET owners_second = $1`, need)
	return err
}

// DropSecond takes all second factors of somebody away. Error: that of the database.
func (s *Store) DropSecond(ctx context.Context, name string) error {
	_, err := s.db.ExecContext(ctx, `WITH who AS (UPDATE person SET totp_secret = '', totp_step = 0 WHERE name = $1 RETURNING id),
		codes AS (DELETE FROM recovery_code WHERE person_id IN (SELECT id FROM who))
		DELETE FROM passkey WHERE person_id IN (SELECT id FROM who)`, name)
	return err
}
