// Package book prints the documents as pages: they read on a screen and a phone, print on paper, and ask nothing of the network.
package book

import (
	"bytes"
	_ "embed"
	"errors"
	"fmt"
	"html/template"
	"io/fs"
	"path"
	"regexp"
	"strings"

	"github.com/yuin/goldmark"
	"github.com/yuin/goldmark/extension"
	"github.com/yuin/goldmark/parser"
)

//go:embed page.html
var layout string

var printed = template.Must(template.New("page").Parse(layout))

// Part is a part of the table of contents.
type Part struct {
	Title string
	Pages []Entry
}

// Entry is a page in it.
type Entry struct{ Path, Title string }

// contents are the pages in the order of the work. What is not named here is reached from others.
var contents = []struct {
	title string
	pages []string
}{
	{"Guides", []string{"guides/first-site", "guides/modem", "guides/carrier", "guides/links", "guides/ipv6", "guides/vpn",
		"guides/without-agent", "guides/vantage", "guides/servers", "guides/certificates", "guides/team", "guides/several",
		"guides/moving"}},
	{"How it works", []string{"names", "agent", "probing", "why", "notices", "commissioning", "files"}},
	{"Running it", []string{"running", "metrics", "reliability", "sizing", "scaling", "performance"}},
	{"To look up", []string{"causes", "api", "reference", "rights", "errors", "third-party"}},
}

// Book is all pages, printed.
type Book struct{ pages map[string][]byte }

// New prints the documents of a folder, and those that the program makes itself, by their addresses. Errors: a page that the contents name
// and that is not there, and Markdown without a title.
func New(files fs.FS, made map[string]string) (*Book, error) {
	b := &Book{pages: map[string][]byte{}}
	titles := map[string]string{}
	texts := map[string][]byte{}
	take := func(name string, text []byte) error {
		at := address(name)
		title, _, _ := strings.Cut(string(text), "\n")
		if titles[at] = strings.TrimPrefix(title, "# "); titles[at] == title {
			return fmt.Errorf("%s does not begin with its title", name)
		}
		texts[at] = text
		return nil
	}
	err := fs.WalkDir(files, ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(name, ".md") {
			return err
		}
		text, err := fs.ReadFile(files, name)
		if err != nil {
			return err
		}
		return take(name, text)
	})
	for at, text := range made {
		err = errors.Join(err, take(at+".md", []byte(text)))
	}
	if err != nil {
		return nil, err
	}
	var parts []Part
	for _, of := range contents {
		part := Part{Title: of.title}
		for _, at := range of.pages {
			if texts[at] == nil {
				return nil, fmt.Errorf("there is no page %s", at)
			}
			part.Pages = append(part.Pages, Entry{at, titles[at]})
		}
		parts = append(parts, part)
	}
	for at, text := range texts {
		if b.pages[at], err = page(at, titles[at], text, parts); err != nil {
			return nil, fmt.Errorf("%s: %w", at, err)
		}
	}
	return b, nil
}

// Page is the page at an address such as "guides/first-site"; "" is the first one.
func (b *Book) Page(at string) (html []byte, ok bool) {
	if at = strings.Trim(at, "/"); at == "" {
		at = contents[0].pages[0]
	}
	html, ok = b.pages[at]
	return html, ok
}

// address is where a file is found: without its ending, a README at its folder.
func address(file string) string {
	return strings.TrimSuffix(strings.TrimSuffix(file, ".md"), "/README")
}

var markdown = goldmark.New(goldmark.WithExtensions(extension.GFM), goldmark.WithParserOptions(parser.WithAutoHeadingID()))

// links are those that a page has to others; in the repository they name files.
var links = regexp.MustCompile(`href="([^":#]+)(#[^"]*)?"`)

var elsewhere = regexp.MustCompile(`<a href="\.\./[^"]*">([^<]*)</a>`)

// wide makes what may be wider than the page something that the keyboard scrolls.
var wide = strings.NewReplacer("<pre>", `<pre tabindex="0">`, "<table>", `<div class="wide" tabindex="0"><table>`, "</table>",
	"</table></div>")

func page(at, title string, text []byte, parts []Part) ([]byte, error) {
	var body, out bytes.Buffer
	if err := markdown.Convert(text, &body); err != nil {
		return nil, err
	}
	folder := path.Dir(at)
	if at == "causes" { // its file is the README below
		folder = at
	}
	linked := links.ReplaceAllStringFunc(body.String(), func(found string) string {
		m := links.FindStringSubmatch(found)
		if !strings.HasSuffix(m[1], ".md") {
			return found
		}
		return `href="/docs/` + address(path.Join(folder, m[1])) + m[2] + `"`
	})
	// What stands beside the documents in the repository is not served.
	linked = elsewhere.ReplaceAllString(linked, "<code>$1</code>")
	linked = wide.Replace(linked)
	err := printed.Execute(&out, struct {
		At, Title string
		Parts     []Part
		Body      template.HTML
	}{at, title, parts, template.HTML(linked)}) // our own documents
	return out.Bytes(), err
}
