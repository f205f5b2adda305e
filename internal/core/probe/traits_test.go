package probe

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestTraitsHaveToAgree(t *testing.T) {
	one := TraitPrint(map[string]string{"server": "gatehouse/2.1", "title": "Front  door; left", "realm": ""})
	require.Equal(t, "traits server=gatehouse/2.1; title=Front door left", one)
	require.Empty(t, TraitPrint(map[string]string{"server": " "}))
	long := TraitPrint(map[string]string{"title": strings.Repeat("x", 500)})
	require.Len(t, long, len("traits title=")+longestTrait)
	for name, c := range map[string]struct {
		pinned, shown string
		same          bool
	}{
		"the same":                   {one, one, true},
		"another title":              {one, "traits server=gatehouse/2.1; title=Back door", false},
		"one is left out":            {one, "traits server=gatehouse/2.1", true},
		"one more":                   {one, one + "; z=1", true},
		"nothing in common":          {one, "traits realm=yard", false},
		"a banner of long ago":       {"banner gatehouse/2.1", one, true},
		"another banner of long ago": {"banner gatehouse/2.0", one, false},
		"a banner, and no server":    {"banner gatehouse/2.1", "traits realm=yard", true},
		"a key":                      {"key SHA256:abc", one, false},
		"traits, and now a key":      {one, "key SHA256:abc", false},
	} {
		require.Equal(t, c.same, SamePrint(c.pinned, c.shown), name)
	}
	require.Equal(t, Stranger, Judge(Result{Talk: TalkExpected, Fingerprint: "traits realm=a"}, "traits realm=b"))
	require.Equal(t, Answered, Judge(Result{Talk: TalkExpected, Fingerprint: "traits realm=a"}, "traits realm=a; x=1"))
}
