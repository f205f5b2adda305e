package engine

import (
	"context"
	"time"

	"inkpost.example/inkpost/internal/contract"
)

// readyWait is how long the database may take to answer and count as there.
const readyWait = 2 * time.Second

// Ready reports whether the service can do all of its work, and what it does.
func (e *Engine) Ready(ctx context.Context) contract.Ready {
	ctx, cancel := context.WithTimeout(ctx, readyWait)
	defer cancel()
	out := contract.Ready{Ready: true, Database: "answers and accepts writes", Role: contract.RoleWriter,
		Names: "answered from memory"}
	if e.lost() {
		out.Role, out.Database = contract.RoleStandby, "answers"
		out.Names = "answered as another server writes them, at most a second late"
	}
	server, since, err := e.Writer(ctx)
	out.Writer, out.Since = server, since
	if err != nil {
		out.Ready, out.Database = false, "is away: names are answered, announcements are not recorded"
		return out
	}
	if e.lost() {
		return out
	}
	if since, failed := e.Failing(ctx); failed != nil {
		out.Ready = false
		out.Database = "answers, and has accepted no writes since " + since.Format(time.RFC3339) + ": " + failed.Error()
	}
	return out
}

// Now is the time of day, as the record keeps it.
func (e *Engine) Now() time.Time { return e.rooms.Now() }
