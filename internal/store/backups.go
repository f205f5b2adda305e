package store

import (
	"context"
	"errors"
	"time"

	"github.com/jmoiron/sqlx"
)

// NoteBackup remembers a backup: when it was made, its length in octets, on which machine it is, and whether it is locked.
func (s *Store) NoteBackup(ctx context.Context, at time.Time, octets int64, machine string, locked bool) error {
	_, err := s.root.ExecContext(ctx, `INSERT INTO backups (made_at, octets, machine, sealed) VALUES ($1, $2, $3, $4)`, at, octets, machine,
		locked)
	return err
}

// ErrNotEmpty reports a database that has something on record.
var ErrNotEmpty = errors.New("this database is in use: a backup is put into an empty one; make one with createdb, and name it")

// CheckEmpty reports whether there is anything in the database. Error: ErrNotEmpty.
func (s *Store) CheckEmpty(ctx context.Context) error {
	var there bool
	err := s.root.GetContext(ctx, &there, `SELECT EXISTS (SELECT FROM pg_class WHERE relnamespace = 'public'::regnamespace AND relkind IN
		('r', 'p'))`)
	if err == nil && there {
		return ErrNotEmpty
	}
	return err
}

// ahead is by how much the serials of zones are raised after a backup was put back: by more changes than a zone has seen since.
const ahead = 1_000_000

// Reawaken makes a database that was put back from a backup ready for a server: serials of hosted zones go ahead of any that was answered
// since, and nobody is signed in. It returns how many sites and zones there are, and how many sessions were ended.
func (s *Store) Reawaken(ctx context.Context) (sites, zones, sessions int, err error) {
	err = s.inTx(ctx, func(tx *sqlx.Tx) error {
		r, err := tx.ExecContext(ctx, `DELETE FROM session`)
		if err != nil {
			return err
		}
		ended, err := r.RowsAffected()
		if err != nil {
			return err
		}
		sessions = int(ended)
		// 0 is left out, as some secondaries take it for "unset" (RFC 1982 for the rest).
		if _, err := tx.ExecContext(ctx, `UPDATE zone SET serial = CASE (serial + $1) % 4294967296 WHEN 0 THEN 1
			ELSE (serial + $1) % 4294967296 END WHERE kind = 'hosted'`, ahead); err != nil {
			return err
		}
		if err := tx.GetContext(ctx, &zones, `SELECT count(*) FROM zone`); err != nil {
			return err
		}
		return tx.GetContext(ctx, &sites, `SELECT count(*) FROM site`)
	})
	return sites, zones, sessions, err
}
