package truth

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/causes"
)

// Every cause alone, with what it predicts: it is first, or it is named among those that nothing known tells apart.
func TestEveryCauseFindsItself(t *testing.T) {
	first := map[causes.Slug]int{}
	all := All()
	for _, r := range all {
		require.NotEqual(t, Missed, r.Outcome, "%s is taken for %s, with %v: %s", r.Cause, r.Best().Slug, r.Known, Words(r.Seen))
		if r.Outcome == First {
			first[r.Cause]++
		}
	}
	require.Greater(t, len(all), 5000)
	for _, c := range causes.Table() {
		if c.Ranked() {
			require.Positive(t, first[c.Slug], "%s is never first, whatever is known", c.Slug)
		}
	}
}

// A cause that is told contradicts nothing that is seen.
func TestNoVerdictContradictsItsEvidence(t *testing.T) {
	for _, r := range All() {
		best, _ := causes.Find(r.Best().Slug)
		for _, sign := range r.Seen.Known() {
			predicted := best.Predicts[sign]
			require.True(t, !sign.Excludes(r.Seen[sign]) || predicted == 0 || predicted.Has(r.Seen[sign]), "%s, though %s: %s", best.Slug,
				sign,
				sign.Words(r.Seen[sign]))
		}
	}
}

// Where two causes stay open, a check is named that tells them apart, unless everything that their predictions differ in is known.
func TestWhatIsOpenNamesTheCheckThatDecides(t *testing.T) {
	named := 0
	for _, r := range All() {
		for _, other := range r.Between()[min(1, len(r.Between())):] {
			check, sign, ok := causes.Deciding(r.Best().Slug, other, r.Seen, nil)
			if ok {
				named++
				require.Equal(t, check, sign.Check())
				require.NotEmpty(t, check.Ask())
				continue
			}
			a, _ := causes.Find(r.Best().Slug)
			b, _ := causes.Find(other)
			for _, sign := range causes.Signs() {
				require.True(t, r.Seen[sign] != causes.Unseen || sign.Check() == "" || a.Predicts[sign] == b.Predicts[sign],
					"%s and %s differ in %s, which is not known", a.Slug, b.Slug, sign)
			}
		}
	}
	require.Greater(t, named, 1000)
}

func TestEverythingKnownLeavesLittleOpen(t *testing.T) {
	open, all := 0, 0
	for _, c := range causes.Table() {
		if !c.Ranked() {
			continue
		}
		for _, one := range Cases(c, Kinds) {
			all++
			if r := Judge(one); r.Sure == causes.Open {
				open++
				require.Contains(t, append(r.Between(), r.Best().Slug), c.Slug)
			}
		}
	}
	require.Less(t, open*2, all, "%d of %d are open though everything is known", open, all)
}

func TestCasesKeepWhatIsNotKnownOut(t *testing.T) {
	c, _ := causes.Find("forward-missing")
	for _, one := range Cases(c, nil) {
		require.Equal(t, causes.Unseen, one.Seen[causes.Inside])
		require.Equal(t, causes.Unseen, one.Seen[causes.Reach])
	}
	require.True(t, slices.ContainsFunc(Cases(c, Kinds), func(one Case) bool { return one.Seen[causes.Inside] == causes.InOpen }))
}
