// Package checkup looks at the installation itself: its database, its machine, its ports as vantage points see them, its zones as the world
// sees them, its mail server and its certificate. What is found is judged by core/checkup. It owns nothing.
//
// No lock of the engine may be held when it is called: it waits for others, for up to half a minute.
package checkup

import (
	"context"
	"sync"
	"time"

	"inkpost.example/inkpost/internal/core/checkup"
	"inkpost.example/inkpost/internal/engine/rooms"
	"inkpost.example/inkpost/internal/engine/views"
)

// Room is the room.
type Room struct {
	*rooms.Rooms
	Views *views.Views
}

// patience is how long one part may take.
const patience = 25 * time.Second

// All looks at everything at once and tells each thing as its part is done, in the order of the parts. Error: that of tell.
func (r *Room) All(ctx context.Context, tell func(checkup.Point) error) error {
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	parts := []func(context.Context) []checkup.Point{r.machine, r.resolvers, r.vantages, r.doors, r.zones, r.mail, r.certificate}
	found := make([]chan []checkup.Point, len(parts))
	var wg sync.WaitGroup
	defer wg.Wait()
	for i, look := range parts {
		found[i] = make(chan []checkup.Point, 1)
		wg.Go(func() { found[i] <- look(ctx) })
	}
	for _, part := range found {
		for _, c := range <-part {
			if err := tell(c); err != nil {
				cancel()
				return err
			}
		}
	}
	return nil
}
