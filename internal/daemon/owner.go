package daemon

import (
	"context"
	"time"

	"inkpost.example/inkpost/internal/engine"
	"inkpost.example/inkpost/internal/store"
)

// ResetPassword gives a person a new one-time password, in the database of a server that may be running. A person who is not on
// record is made where create says so. Errors: store.Missing, store.ErrOlderSchema.
func ResetPassword(ctx context.Context, database, name string, create bool) (string, error) {
	st, err := store.Connect(ctx, database)
	if err != nil {
		return "", err
	}
	defer st.Close()
	if err := st.CheckSchema(ctx); err != nil {
		return "", err
	}
	return engine.ResetPassword(ctx, st, name, time.Now(), create)
}
