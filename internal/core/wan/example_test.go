package wan_test

import (
	"fmt"
	"net/netip"
	"time"

	"inkpost.example/inkpost/internal/core/wan"
)

func ExampleJudgeNAT() {
	nat := wan.JudgeNAT(netip.MustParseAddr("100.64.7.9"), netip.MustParseAddr("203.0.113.40"), nil, wan.Policy{})
	fmt.Println(nat.Verdict)
	// Output: carrier
}

// A source inside the site alone moves no hostname: what is proven from outside does.
func ExampleWeigh() {
	now := time.Date(2026, 11, 2, 8, 0, 0, 0, time.UTC)
	old, fresh := netip.MustParseAddr("198.51.100.1"), netip.MustParseAddr("198.51.100.2")
	policy := wan.Policy{StandIns: []netip.Prefix{netip.MustParsePrefix("198.51.100.0/24")}}
	reports := []wan.Report{{Source: wan.SourceGateway, Addresses: wan.PairOf(fresh), At: now},
		{Source: wan.SourceObserved, Addresses: wan.PairOf(fresh), At: now}}
	judgement := wan.Weigh(wan.Weighing{Now: now, Current: wan.PairOf(old), Reports: reports, Policy: policy})
	fmt.Println(judgement.Addresses, judgement.Changed)
	// Output: 198.51.100.2 true
}
