package diagnose

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/probe"
)

func TestWhatIsOpenStaysUntilItIsOverOrExplainedOtherwise(t *testing.T) {
	e := scene()
	e.Began = now.Add(-time.Hour)
	fail(&e, probe.Silent, 2)
	was := Site(e)[0]
	for name, c := range map[string]struct {
		edit  func(*Evidence)
		stays bool
	}{
		"it works again": {func(e *Evidence) { e.Services[2].State, e.Services[2].Outcome = probe.StateReachable, probe.Opened }, false},
		"a look is waited for": {func(e *Evidence) {
			e.Services[2].Interval = 60
			e.Seen = map[string]DeviceReport{"desk": {At: now, Unsure: true}}
		}, true},
		"something else explains it": {func(e *Evidence) {
			lookFromInside(e, "desk", DeviceReport{Present: true, Found: "192.168.7.99"})
		}, false},
		"nobody has looked since the start": {func(e *Evidence) {
			e.Began = now.Add(-10 * time.Second)
			e.Services[2] = scene().Services[2]
			e.Services[2].State, e.Services[2].Outcome, e.Services[2].Probed = probe.StateUnknown, "", time.Time{}
		}, true},
		"nobody looks": {func(e *Evidence) {
			e.Services[2].State, e.Services[2].Outcome, e.Services[2].Probed = probe.StateUnknown, "", time.Time{}
		}, false},
		"it is off the record": {func(e *Evidence) { e.Services = e.Services[:2] }, false},
	} {
		t.Run(name, func(t *testing.T) {
			e := scene()
			e.Began = now.Add(-time.Hour)
			fail(&e, probe.Silent, 2)
			c.edit(&e)
			found, paths := All(e, was)
			kept := false
			for _, f := range found {
				kept = kept || f.Key() == was.Key()
			}
			require.Equal(t, c.stays, kept, "%+v", found)
			if c.stays {
				require.Equal(t, was.Key(), paths[2].Finding.Key(), "the path says it, too")
			}
		})
	}
}
