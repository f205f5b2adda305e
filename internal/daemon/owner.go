package daemon

import (
	"context"
	"time"

	"inkpost.example/inkpost/internal/access"
	"inkpost.example/inkpost/internal/store"
)

// ResetPassword returns a person a new one-time password, in the database of a server that may be running. A person who is not on record is
// created if create is set. Errors: store.Missing, store.ErrOlderSchema.
func ResetPassword(ctx context.Context, database, name string, create, dropSecond bool) (string, error) {
	st, err := store.Connect(ctx, database)
	if err != nil {
		return "", err
	}
	defer st.Close()
	if err := st.CheckSchema(ctx); err != nil {
		return "", err
	}
	password, err := access.ResetPassword(ctx, st, name, time.Now(), create)
	if err != nil {
		return "", err
	}
	words := "Reset a password at the database"
	if dropSecond {
		if err := st.DropSecond(ctx, name); err != nil {
			return "", err
		}
		words = "Reset a password and second factors at the database"
	}
	act := store.Act{Kind: "owner.reset", Words: words, Subject: name, Status: 200}
	act.At.Time = time.Now()
	return password, st.EndAct(ctx, act)
}

// FirstOwner makes the first person if there is none, with a one-time password that it returns. settled is false while this server does not
// write, or the database does not answer.
func (d *Daemon) FirstOwner(ctx context.Context, name string) (password string, settled bool) {
	e := d.Engine()
	if e == nil || e.Standby() {
		return "", false
	}
	password, err := e.Access.EnsureOwner(ctx, name)
	return password, err == nil
}
