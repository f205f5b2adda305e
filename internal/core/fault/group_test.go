package fault_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/causes"
	"inkpost.example/inkpost/internal/core/fault"
)

func TestLikeFaultsOfSeveralSitesAreOneGroup(t *testing.T) {
	like := func(cause causes.Slug, site string, serious bool) fault.Like {
		return fault.Like{Cause: cause, Serious: serious, Site: site}
	}
	list := []fault.Like{like("site-dark", "KET-07", true), like("forward-missing", "A-1", true), like("forward-missing", "A-2", true),
		like("service-hung", "B-1", true), like("forward-missing", "A-3", true), like("certificate-expiring", "C-1", false),
		like("certificate-expiring", "C-2", false), like("certificate-expiring", "C-3", false), like("certificate-expiring", "C-4", false),
		like("service-hung", "B-1", true), like("service-hung", "B-1", true)}
	groups, single := fault.Group(list)
	require.Equal(t, [][]int{{1, 2, 4}, {5, 6, 7, 8}}, groups, "serious ones first, then the largest")
	require.Equal(t, []int{0, 3, 9, 10}, single, "three at one site are no group")
	groups, single = fault.Group(nil)
	require.Empty(t, groups)
	require.Empty(t, single)
}
