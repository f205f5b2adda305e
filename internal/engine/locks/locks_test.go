package locks

import (
	"sync"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestTheOrderIsChecked needs the race detector, as `make test` runs it.
func TestTheOrderIsChecked(t *testing.T) {
	var journal Journal
	var probing Probing
	var one, other Leaf
	var shared LeafRW
	downwards := func() {
		journal.Lock()
		defer journal.Unlock()
		probing.Lock()
		defer probing.Unlock()
		shared.RLock()
		defer shared.RUnlock()
	}
	require.NotPanics(t, downwards)
	require.NotPanics(t, downwards, "what was given back may be taken again")
	for what, upwards := range map[string]func(){
		"probing under a leaf":  func() { one.Lock(); defer one.Unlock(); probing.Lock(); defer probing.Unlock() },
		"a leaf under a leaf":   func() { one.Lock(); defer one.Unlock(); other.Lock(); defer other.Unlock() },
		"reading under a leaf":  func() { one.Lock(); defer one.Unlock(); shared.RLock(); defer shared.RUnlock() },
		"journal under probing": func() { probing.Lock(); defer probing.Unlock(); journal.Lock(); defer journal.Unlock() },
	} {
		if Checked {
			require.Panics(t, upwards, what)
		} else {
			require.NotPanics(t, upwards, what)
		}
	}
}

func TestWhatAnotherGoroutineHoldsIsNobodysBusiness(t *testing.T) {
	var leaf Leaf
	var probing Probing
	leaf.Lock()
	defer leaf.Unlock()
	var wg sync.WaitGroup
	wg.Go(func() { probing.Lock(); defer probing.Unlock() })
	wg.Wait()
}

func TestPublishingMayBeUnlockedElsewhere(t *testing.T) {
	var publishing Publishing
	for range 3 {
		publishing.Lock()
		done := make(chan struct{})
		go func() { defer close(done); publishing.Unlock() }()
		<-done
	}
}
