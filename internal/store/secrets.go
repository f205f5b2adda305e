package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"

	"github.com/jmoiron/sqlx"

	"inkpost.example/inkpost/internal/store/seal"
)

// Columns that hold secrets which have to be known, unlike passwords and keys, of which hashes do.
const (
	signingSecrets = "signing_key.secret"
	hookSecrets    = "hook.secret"
	probeKeys      = "service.probe_key"
	totpSecrets    = "person.totp_secret"
	pushKeys       = "installation.push_private"
)

// secretColumns says which statement reads the secrets of a column with the row that each is in, which one finds a sealed one, and which
// one writes them.
var secretColumns = map[string]struct{ read, any, write string }{
	signingSecrets: {`SELECT id, secret AS secret FROM signing_key WHERE secret <> '' FOR UPDATE`,
		`SELECT secret FROM signing_key WHERE secret LIKE 'sealed:%' LIMIT 1`,
		`UPDATE signing_key SET secret = $2 WHERE id = $1`},
	hookSecrets: {`SELECT id, secret AS secret FROM hook WHERE secret <> '' FOR UPDATE`,
		`SELECT secret FROM hook WHERE secret LIKE 'sealed:%' LIMIT 1`,
		`UPDATE hook SET secret = $2 WHERE id = $1`},
	probeKeys: {`SELECT id, probe_key AS secret FROM service WHERE probe_key <> '' FOR UPDATE`,
		`SELECT probe_key FROM service WHERE probe_key LIKE 'sealed:%' LIMIT 1`,
		`UPDATE service SET probe_key = $2 WHERE id = $1`},
	totpSecrets: {`SELECT id, totp_secret AS secret FROM person WHERE totp_secret <> '' FOR UPDATE`,
		`SELECT totp_secret FROM person WHERE totp_secret LIKE 'sealed:%' LIMIT 1`,
		`UPDATE person SET totp_secret = $2 WHERE id = $1`},
	pushKeys: {`SELECT 0 AS id, push_private AS secret FROM installation WHERE push_private <> '' FOR UPDATE`,
		`SELECT push_private FROM installation WHERE push_private LIKE 'sealed:%' LIMIT 1`,
		`UPDATE installation SET push_private = $2 WHERE $1 = 0`},
}

// Unlock gives the store the keys of secrets: what it writes from now on is sealed, and what is stored is sealed by the next Prepare. It is
// called before anything else.
func (s *Store) Unlock(ring seal.Ring) { s.ring = ring }

// unseal opens a secret that was read from a column.
func (s *Store) unseal(column string, secret *string) (err error) {
	*secret, err = s.ring.Open(column, *secret)
	return err
}

// CheckSecrets makes sure that the secrets of the database can be read, before anything relies on them. Error: seal.ErrClosed.
func (s *Store) CheckSecrets(ctx context.Context) error {
	for column := range secretColumns {
		var one string
		err := s.root.GetContext(ctx, &one, secretColumns[column].any)
		if errors.Is(err, sql.ErrNoRows) {
			continue
		}
		if err == nil {
			_, err = s.ring.Open(column, one)
		}
		if err != nil {
			return fmt.Errorf("%s: %w", column, err)
		}
	}
	return nil
}

// resealAll has every secret be sealed by the first key, and finds out whether all of them can be opened. Error: seal.ErrClosed.
func (s *Store) resealAll(ctx context.Context) error {
	return s.inTx(ctx, func(tx *sqlx.Tx) error {
		for _, column := range []string{signingSecrets, hookSecrets, probeKeys, totpSecrets, pushKeys} {
			var rows []struct {
				ID     int64  `db:"id"`
				Secret string `db:"secret"`
			}
			if err := tx.SelectContext(ctx, &rows, secretColumns[column].read); err != nil {
				return err
			}
			for _, r := range rows {
				now, same, err := s.ring.Reseal(column, r.Secret)
				if err == nil && !same {
					_, err = tx.ExecContext(ctx, secretColumns[column].write, r.ID, now)
				}
				if err != nil {
					return fmt.Errorf("%s: %w", column, err)
				}
			}
		}
		return nil
	})
}
