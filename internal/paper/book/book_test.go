package book_test

import (
	"io/fs"
	"regexp"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/docs"
	"inkpost.example/inkpost/internal/paper/book"
)

var hrefs = regexp.MustCompile(`href="([^"]+)"`)

// Every page is there, and every link to another one leads somewhere.
func TestEveryPageIsPrintedAndItsLinksLeadSomewhere(t *testing.T) {
	t.Parallel()
	b, err := book.New(docs.Files(), map[string]string{"reference": "# Every route\n\nSee [the API](api.md).\n"})
	require.NoError(t, err)
	first, ok := b.Page("/")
	require.True(t, ok)
	require.Contains(t, string(first), "<h1 id=\"the-first-site-in-ten-minutes\">")
	pages, links := 0, 0
	require.NoError(t, fs.WalkDir(docs.Files(), ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		at := strings.TrimSuffix(strings.TrimSuffix(name, ".md"), "/README")
		html, ok := b.Page("/" + at)
		require.True(t, ok, name)
		pages++
		for _, m := range hrefs.FindAllStringSubmatch(string(html), -1) {
			page, _, _ := strings.Cut(m[1], "#")
			to, ours := strings.CutPrefix(page, "/docs/")
			if !ours {
				require.Regexp(t, `^(/|https?:|mailto:|)$|^https?:`, page, "%s", name)
				continue
			}
			_, ok := b.Page(to)
			require.True(t, ok, "%s leads to %s", name, m[1])
			links++
		}
		return nil
	}))
	require.Greater(t, pages, 60)
	require.Greater(t, links, 500)
	_, ok = b.Page("/nowhere")
	require.False(t, ok)
}

func TestADocumentWithoutATitleIsToldOf(t *testing.T) {
	t.Parallel()
	_, err := book.New(fstest.MapFS{"tide.md": {Data: []byte("no title\n")}}, nil)
	require.ErrorContains(t, err, "tide.md does not begin with its title")
	_, err = book.New(fstest.MapFS{"tide.md": {Data: []byte("# Tide\n")}}, nil)
	require.ErrorContains(t, err, "there is no page guides/first-site")
}
