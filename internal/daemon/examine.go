package daemon

import (
	"context"
	"time"

	"inkpost.example/inkpost/internal/core/checkup"
	look "inkpost.example/inkpost/internal/engine/checkup"
	"inkpost.example/inkpost/internal/store"
)

// Examine looks at the database and the disks of a server that does not answer. Error: that of a wrong URL.
func Examine(ctx context.Context, database, stateDir string) ([]checkup.Point, error) {
	st, err := store.Connect(ctx, database)
	if err != nil {
		return nil, err
	}
	defer st.Close()
	return look.Machine(st.Checkup(ctx), stateDir, time.Now()), nil
}

// Contradictions looks for what cannot be so in a database, whether a server runs on it or not, and says how many kinds it looked for.
// Errors: that of a wrong URL, store.ErrOlderSchema, that of the database.
func Contradictions(ctx context.Context, database string) (found []store.Contradiction, kinds int, err error) {
	st, err := store.Connect(ctx, database)
	if err != nil {
		return nil, 0, err
	}
	defer st.Close()
	if err := st.CheckSchema(ctx); err != nil {
		return nil, 0, err
	}
	return st.Contradictions(ctx)
}
