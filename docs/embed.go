// Package docs is what is written for people: in the repository, and served at /docs.
package docs

import (
	"embed"
	"io/fs"
)

//go:embed *.md guides/*.md causes/*.md
var files embed.FS

// Files are the documents, in Markdown.
func Files() fs.FS { return files }
