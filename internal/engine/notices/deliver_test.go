package notices

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/store"
	"inkpost.example/inkpost/internal/wire/hook"
	"inkpost.example/inkpost/internal/wire/mail"
	"inkpost.example/inkpost/internal/wire/webpush"
)

var began = time.Date(2026, 11, 30, 9, 0, 0, 0, time.UTC)

// deliver tries a delivery on a simulated clock until nothing more is to be done, at a receiver that says what it makes of each try. It
// returns how it ended, and when.
func deliver(t *testing.T, receiver func(at time.Time) error) (store.Delivery, time.Time) {
	d, now := store.Delivery{State: store.DeliveryWaiting, Since: began}, began
	for {
		var wait time.Duration
		d, wait = after(d, "https://desk.saltmarsh.example", receiver(now), now)
		if wait == 0 {
			return d, now
		}
		require.Equal(t, store.DeliveryWaiting, d.State)
		require.LessOrEqual(t, wait, time.Hour)
		now = now.Add(wait)
	}
}

func TestAReceiverThatIsAwayForAnHourGetsEverythingOnce(t *testing.T) {
	took := 0
	d, at := deliver(t, func(at time.Time) error {
		if at.Sub(began) < time.Hour {
			return hook.Failed{Words: "connection refused"}
		}
		took++
		return nil
	})
	require.Equal(t, 1, took)
	require.Equal(t, store.DeliverySent, d.State)
	require.Empty(t, d.Problem)
	require.Less(t, at.Sub(began), 2*time.Hour)
	require.Less(t, d.Tries, 12, "and it is not hammered meanwhile")
}

func TestAReceiverThatIsAwayForGoodEndsAmongTheDeadLetters(t *testing.T) {
	d, at := deliver(t, func(time.Time) error { return hook.Failed{Words: "connection refused"} })
	require.Equal(t, store.DeliveryFailed, d.State)
	require.Equal(t, "connection refused", d.Problem)
	require.GreaterOrEqual(t, at.Sub(began), 24*time.Hour)
	require.Less(t, at.Sub(began), 26*time.Hour)
	require.Less(t, d.Tries, 40)
	require.False(t, d.Done.IsZero())
}

func TestWhatIsFinalIsNotTriedAgain(t *testing.T) {
	for _, err := range []error{hook.Failed{Words: "410 Gone", Final: true}, mail.Refused{Words: "550 no such user", Final: true},
		webpush.Failed{Words: "the browser wants nothing more", Final: true, Gone: true}} {
		d, at := deliver(t, func(time.Time) error { return err })
		require.Equal(t, store.DeliveryFailed, d.State, "%T", err)
		require.Equal(t, 1, d.Tries)
		require.Equal(t, began, at)
	}
}
