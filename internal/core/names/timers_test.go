package names

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestTimersAreThoseThatSecondariesKeepTo(t *testing.T) {
	for name, c := range map[string]struct {
		timers Timers
		field  string
		detail string
	}{
		"nothing given":          {Timers{}, "", ""},
		"usual ones":             {Timers{Refresh: 3600, Retry: 300, Expire: 1209600, Negative: 30}, "", ""},
		"refresh of no time":     {Timers{Refresh: 5}, "refresh_seconds", "5 is out of range; 30 to 604800"},
		"less than nothing":      {Timers{Retry: -1}, "retry_seconds", "-1 is out of range"},
		"expires at once":        {Timers{Expire: 60}, "expire_seconds", "3600 to 15552000"},
		"a week of no such name": {Timers{Negative: 7 * 86400}, "negative_seconds", "1 to 86400"},
		"expires while it waits": {Timers{Refresh: 86400, Retry: 3600, Expire: 86400}, "expire_seconds",
			"would stop answering while they wait"},
		"just longer than the wait": {Timers{Refresh: 86400, Retry: 3600, Expire: 90001}, "", ""},
	} {
		found := false
		for field, err := range c.timers.Check() {
			require.Equal(t, c.field, field, name)
			require.ErrorContains(t, err, c.detail, name)
			found = true
		}
		require.Equal(t, c.field != "", found, name)
	}
	count := 0
	for range (Timers{Refresh: 1, Retry: 1, Expire: 1, Negative: -1}).Check() {
		count++
	}
	require.Equal(t, 5, count, "all that is wrong is told at once")
	for range (Timers{Refresh: 1, Retry: 1}).Check() {
		break // whoever wants one only may stop
	}
	z := Timers{Refresh: 60, Negative: 5}.On(Zone{Apex: "isles.example"}).WithDefaults()
	require.EqualValues(t, 60, z.Refresh)
	require.EqualValues(t, 5, z.Negative)
	require.NotZero(t, z.Expire, "what was left out takes its default")
}
