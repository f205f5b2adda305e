package cli

import (
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/causes"
)

var flagged = regexp.MustCompile(`--([a-z-]+)`)

// What a cause tells people to type can be typed.
func TestCausesNameCommandsThatThereAre(t *testing.T) {
	texts := map[string]string{}
	for _, c := range causes.Table() {
		texts[string(c.Slug)] = c.Next
	}
	for _, s := range causes.Signs() {
		texts[string(s.Check())] = s.Check().Ask()
	}
	seen := 0
	for of, text := range texts {
		for _, part := range strings.Split(text, "inkpost ")[1:] {
			command, rest, err := newRoot().Find(strings.Fields(part))
			require.NoError(t, err, "%s: inkpost %s", of, part)
			require.True(t, command.Runnable(), "%s: inkpost %s", of, part)
			for _, m := range flagged.FindAllStringSubmatch(strings.Join(rest, " "), -1) {
				require.NotNil(t, command.Flags().Lookup(m[1]), "%s: inkpost %s has no --%s", of, command.Name(), m[1])
			}
			seen++
		}
	}
	require.Greater(t, seen, 10)
}
