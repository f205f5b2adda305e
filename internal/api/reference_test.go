package api

import (
	"encoding/json"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestTheReferenceHasEveryRoute(t *testing.T) {
	t.Parallel()
	doc, err := Description("test")
	require.NoError(t, err)
	text, err := reference(doc)
	require.NoError(t, err)
	routes := (&api{}).routes()
	require.Greater(t, len(routes), 100)
	for _, r := range routes {
		require.Contains(t, text, "\n### "+r.method+" "+templated(r.path)+"\n\n"+r.summary+".", r.path)
	}
	blocks := regexp.MustCompile("(?ms)^```json\n(.*?)^```$").FindAllStringSubmatch(text, -1)
	require.Greater(t, len(blocks), 100)
	for _, b := range blocks {
		require.True(t, json.Valid([]byte(b[1])), b[1])
	}
	_, site, _ := strings.Cut(text, "### POST /api/v1/sites\n")
	_, takes, _ := strings.Cut(site, "Takes:\n\n```json\n")
	takes, _, _ = strings.Cut(takes, "```")
	var in map[string]any
	require.NoError(t, json.Unmarshal([]byte(takes), &in))
	require.Contains(t, in, "code")
	_, err = reference([]byte("{"))
	require.Error(t, err)
}
