package fault

import (
	"cmp"
	"slices"

	"inkpost.example/inkpost/internal/core/causes"
)

// groupFrom is how many sites have to have the same trouble to be told as one group.
const groupFrom = 3

// Like is what is compared of open faults, to put like ones together.
type Like struct {
	Cause   causes.Slug
	Serious bool
	Site    string
}

// Group puts faults of the same cause at several sites together: each group lists the places in list of its faults, in order, and the
// largest group of serious faults is first. single are those that belong to no group.
func Group(list []Like) (groups [][]int, single []int) {
	type kind struct {
		cause   causes.Slug
		serious bool
	}
	of := map[kind][]int{}
	var order []kind
	for i, one := range list {
		k := kind{one.Cause, one.Serious}
		if of[k] == nil {
			order = append(order, k)
		}
		of[k] = append(of[k], i)
	}
	for _, k := range order {
		sites := map[string]bool{}
		for _, i := range of[k] {
			sites[list[i].Site] = true
		}
		if len(sites) >= groupFrom {
			groups = append(groups, of[k])
		} else {
			single = append(single, of[k]...)
		}
	}
	slices.SortStableFunc(groups, func(a, b []int) int {
		if x, y := list[a[0]].Serious, list[b[0]].Serious; x != y {
			if x {
				return -1
			}
			return 1
		}
		return cmp.Compare(len(b), len(a))
	})
	slices.Sort(single)
	return groups, single
}
