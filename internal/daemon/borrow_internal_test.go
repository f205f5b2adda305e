package daemon

import (
	"net/url"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/engine"
	"inkpost.example/inkpost/internal/wire/relay"
)

// What waits for the end of a stream may be scheduled only after there was none to be had. Nothing of it stays behind.
func TestAStreamThatCannotBeHadLeavesNothingBehind(t *testing.T) {
	for range 50 {
		synctest.Test(t, func(t *testing.T) {
			m := newMembers(&Daemon{})
			m.way, m.read = relay.Way{URL: &url.URL{Scheme: "nowhere", Host: "standby.example"}}, time.Now()
			_, _, _, err := m.listen(t.Context(), &engine.Engine{}, "probes", nil)
			require.ErrorContains(t, err, "unsupported protocol scheme")
			synctest.Wait()
		})
	}
}
