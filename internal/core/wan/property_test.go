package wan

import (
	"math/rand/v2"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// The order in which reports come makes no difference to what is decided of them.
func TestTheOrderOfReportsDoesNotMatter(t *testing.T) {
	rng := rand.New(rand.NewPCG(5, 6))
	addresses := []netip.Addr{addrA, addrB, addrC, netip.MustParseAddr("192.168.1.23"), netip.MustParseAddr("100.64.7.9"), sixA, sixB}
	moved := 0
	for range 5_000 {
		w := Weighing{Now: weighNow, Current: Pair{IPv4: addrA, IPv6: sixA}, Policy: lab}
		for _, source := range DefaultOrder { // a source has one report at most
			switch rng.IntN(4) {
			case 0:
				w.Reports = append(w.Reports, failed(source, "no answer"))
			case 1, 2:
				r := says(source, addresses[rng.IntN(len(addresses))])
				w.Reports = append(w.Reports, aged(r, time.Duration(rng.IntN(300))*time.Second))
			}
		}
		want := Weigh(w)
		if want.Changed {
			moved++
		}
		rng.Shuffle(len(w.Reports), func(i, j int) { w.Reports[i], w.Reports[j] = w.Reports[j], w.Reports[i] })
		got := Weigh(w)
		require.Equal(t, []any{want.Addresses, want.Changed, want.Withdrawn, want.NAT.Verdict},
			[]any{got.Addresses, got.Changed, got.Withdrawn, got.NAT.Verdict}, "%+v", w.Reports)
		require.Equal(t, want.Held == "", got.Held == "")
	}
	require.Positive(t, moved)
}
