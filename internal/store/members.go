package store

import (
	"context"
	"encoding/hex"
)

// relayKeys is the column that holds the key by which members say whom they relay for. It is another one for each server that writes, so
// that it is sealed by those keys that there are then.
const relayKeys = "writer.relay_key"

// Introduce says where the server that holds the lease is reached by the others, "" if it is not, and what key it believes. Errors:
// ErrNotWriter, and those of the database.
func (s *Store) Introduce(ctx context.Context, url string, key []byte) error {
	done, err := s.db.ExecContext(ctx, `UPDATE writer SET url = $1, relay_key = $2 WHERE epoch = $3`, url,
		s.ring.Seal(relayKeys, hex.EncodeToString(key)), s.epoch())
	if err != nil {
		return err
	}
	if n, err := done.RowsAffected(); err != nil || n == 0 {
		return ErrNotWriter
	}
	return nil
}

// WriterAt says where the server that writes is reached, "" if it is not, and what key it believes. Error: that of the database.
func (s *Store) WriterAt(ctx context.Context) (url string, key []byte, err error) {
	var row struct {
		URL string `db:"url"`
		Key string `db:"relay_key"`
	}
	if err := s.db.GetContext(ctx, &row, `SELECT url, relay_key FROM writer`); err != nil {
		return "", nil, err
	}
	if err := s.unseal(relayKeys, &row.Key); err != nil {
		return "", nil, err
	}
	key, err = hex.DecodeString(row.Key)
	return row.URL, key, err
}
