package api

import (
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

var (
	word = regexp.MustCompile(`(?:problemOf|errorOf(?:Type)?(?:\[[^\]]*\])?)\([^"\n]*"([a-z-]+)"`)
	row  = regexp.MustCompile("(?m)^\\| `([a-z-]+)` \\| [1-5][0-9][0-9] \\| [^|]+ \\|$")
)

// docs/errors.md has every kind of problem that there is, and no other.
func TestEveryProblemStandsInTheDocuments(t *testing.T) {
	t.Parallel()
	var are, said []string
	files, err := filepath.Glob("*.go")
	require.NoError(t, err)
	for _, file := range files {
		if strings.HasSuffix(file, "_test.go") {
			continue
		}
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		for _, m := range word.FindAllStringSubmatch(string(text), -1) {
			are = append(are, m[1])
		}
	}
	doc, err := os.ReadFile("../../docs/errors.md")
	require.NoError(t, err)
	for _, m := range row.FindAllStringSubmatch(string(doc), -1) {
		said = append(said, m[1])
	}
	slices.Sort(are)
	require.Greater(t, len(said), 40)
	require.Equal(t, slices.Compact(are), said)
}
