package names_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/names"
)

// A name that is taken is in its one form, and within the bounds of RFC 1035 section 2.3.4.
func FuzzParse(f *testing.F) {
	for _, s := range []string{"ket-07.isles.saltmarsh.example", "*.Isles.Example.", "_sip._tcp.x.example", "a..b",
		strings.Repeat("a", 64) + ".example", "xn--fhre-loa.example"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		for _, parse := range []func(string) (names.Name, error){names.Parse, names.ParseOwner} {
			name, err := parse(s)
			if err != nil {
				require.Empty(t, name)
				continue
			}
			again, err := parse(string(name))
			require.NoError(t, err)
			require.Equal(t, name, again)
			require.Equal(t, strings.ToLower(string(name)), string(name))
			require.LessOrEqual(t, len(name), 253)
			for label := range strings.SplitSeq(string(name), ".") {
				require.NotEmpty(t, label)
				require.LessOrEqual(t, len(label), 63)
			}
		}
	})
}
