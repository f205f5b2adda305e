// Package paper prints a site's sheet: as HTML, PDF, Markdown and CSV. It computes nothing: what stands on a sheet is core/sheet's.
package paper

import (
	"encoding/csv"
	"fmt"
	"io"
	"strings"
	"time"

	"inkpost.example/inkpost/internal/core/sheet"
)

// Format of a printed sheet.
type Format string

// The formats.
const (
	HTML     Format = "html"
	PDF      Format = "pdf"
	Markdown Format = "markdown"
	CSV      Format = "csv"
)

// MediaType of a format; "" for one that is unknown.
func (f Format) MediaType() string {
	return map[Format]string{HTML: "text/html; charset=utf-8", PDF: "application/pdf", Markdown: "text/markdown; charset=utf-8",
		CSV: "text/csv; charset=utf-8"}[f]
}

// Extension of a file of the format.
func (f Format) Extension() string {
	return map[Format]string{HTML: "html", PDF: "pdf", Markdown: "md", CSV: "csv"}[f]
}

// Head is what stands above a sheet.
type Head struct {
	Version int       // 0 for one that is not kept
	By      string    // who kept it
	Reason  string    // what for
	Changes []string  // since the version that was kept last
	Since   time.Time // when that was
	Banner  []string  // plain words for a customer
	Good    bool      // they say that all is well
}

// Line says which version a sheet is.
func (h Head) Line(s sheet.Sheet) string {
	at := s.At.UTC().Format("2006-01-02 15:04 UTC")
	if h.Version == 0 {
		return "as it is now, " + at
	}
	line := fmt.Sprintf("version %d, kept %s by %s", h.Version, at, h.By)
	if h.Reason != "" {
		line += ": " + h.Reason
	}
	return line
}

// Print prints a sheet. Errors: an unknown format, that of w.
func Print(w io.Writer, f Format, s sheet.Sheet, h Head) error {
	switch f {
	case HTML:
		return asHTML(w, s, h)
	case PDF:
		return asPDF(w, s, h)
	case Markdown:
		return asMarkdown(w, s, h)
	case CSV:
		return asCSV(w, s, h)
	}
	return fmt.Errorf("%q is no format of a sheet; it is html, pdf, markdown or csv", f)
}

func asMarkdown(w io.Writer, s sheet.Sheet, h Head) error {
	var b strings.Builder
	fmt.Fprintf(&b, "# %s\n\n%s\n", inline(s.Title()), inline(h.Line(s)))
	if s.URL != "" {
		fmt.Fprintf(&b, "\n<%s>\n", s.URL)
	}
	list := func(title string, lines []string) {
		if len(lines) > 0 {
			fmt.Fprintf(&b, "\n## %s\n\n", title)
			for _, l := range lines {
				fmt.Fprintf(&b, "- %s\n", inline(l))
			}
		}
	}
	list("How it is now", h.Banner)
	list(h.since(), h.Changes)
	for _, x := range s.Sections() {
		fmt.Fprintf(&b, "\n## %s\n\n", x.Title)
		if x.Text != "" {
			fmt.Fprintf(&b, "%s\n", inline(x.Text))
		}
		if len(x.Rows) > 0 {
			fmt.Fprintf(&b, "| %s |\n|%s\n", strings.Join(x.Columns, " | "), strings.Repeat(" --- |", len(x.Columns)))
		}
		for _, r := range x.Rows {
			cells := make([]string, len(r))
			for i, c := range r {
				cells[i] = inline(c)
			}
			fmt.Fprintf(&b, "| %s |\n", strings.Join(cells, " | "))
		}
		for _, c := range x.Cards {
			fmt.Fprintf(&b, "- **%s**, %s:", inline(c.Title), inline(c.Where))
			for _, f := range c.Fields {
				fmt.Fprintf(&b, " %s `%s`;", inline(f.Label), strings.ReplaceAll(f.Value, "`", "'"))
			}
			b.WriteString("\n")
		}
	}
	_, err := io.WriteString(w, b.String())
	return err
}

// inline is text that means nothing in Markdown but itself.
func inline(s string) string {
	s = strings.Join(strings.Fields(s), " ")
	return strings.NewReplacer(`\`, `\\`, "|", `\|`, "*", `\*`, "_", `\_`, "<", "&lt;", "`", "\\`", "[", `\[`, "#", `\#`).Replace(s)
}

func (h Head) since() string {
	if h.Since.IsZero() {
		return "What changed"
	}
	return "What changed since " + h.Since.UTC().Format(time.DateOnly)
}

// asCSV writes one fact a line: section, line of the section, field, value.
func asCSV(w io.Writer, s sheet.Sheet, h Head) error {
	out := csv.NewWriter(w)
	line := func(cells ...string) { _ = out.Write(cells) }
	line("section", "line", "field", "value")
	line("Sheet", "1", "Site", s.Code)
	line("Sheet", "1", "Name", s.Name)
	line("Sheet", "1", "Version", h.Line(s))
	for _, x := range s.Sections() {
		if x.Text != "" {
			line(x.Title, "1", "Text", x.Text)
		}
		for i, r := range x.Rows {
			for k, c := range r {
				line(x.Title, fmt.Sprint(i+1), x.Columns[k], c)
			}
		}
		for i, c := range x.Cards {
			for _, f := range c.Fields {
				line(x.Title, fmt.Sprint(i+1), f.Label, f.Value)
			}
		}
	}
	out.Flush()
	return out.Error()
}
