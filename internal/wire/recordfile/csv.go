// Package recordfile reads and writes records as files: one kind as comma-separated values (RFC 4180), all of them as YAML or JSON.
package recordfile

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"unicode/utf8"

	"golang.org/x/text/encoding/unicode"
	"golang.org/x/text/transform"

	"inkpost.example/inkpost/internal/core/declare"
)

const (
	maxFile  = 16 << 20 // octets of a file
	maxCell  = 64 << 10 // octets of one cell
	maxFlaws = 1000     // after which nothing more is looked for
)

// File is what a file says: its items, and what it has all of.
type File struct {
	Items []declare.Item
	Scope declare.Scope
}

// Flaws is everything that is wrong with a file.
type Flaws []declare.LineFlaw

func (f Flaws) Error() string {
	if len(f) == 1 {
		return f[0].Error()
	}
	return fmt.Sprintf("%s; and %d more", f[0].Error(), len(f)-1)
}

func flaw(line int, column, format string, args ...any) Flaws {
	return Flaws{{Line: line, Column: column, Detail: fmt.Sprintf(format, args...)}}
}

// plain returns a file as UTF-8 without a byte order mark. Error: Flaws where it is too large or in another encoding.
func plain(r io.Reader) ([]byte, error) {
	text, err := io.ReadAll(io.LimitReader(r, maxFile+1))
	if err != nil {
		return nil, err
	}
	if len(text) > maxFile {
		return nil, flaw(1, "", "the file has more than %d MB", maxFile>>20)
	}
	// A byte order mark says that it is UTF-16; without one it is taken for UTF-8.
	if text, _, err = transform.Bytes(unicode.BOMOverride(transform.Nop), text); err != nil {
		return nil, flaw(1, "", "the file cannot be read: %v", err)
	}
	for line := range bytes.Lines(text) {
		if !utf8.Valid(line) {
			return nil, flaw(1+bytes.Count(text[:bytes.Index(text, line)], []byte("\n")), "",
				"is not UTF-8; save the file with that encoding (a spreadsheet calls it \"CSV UTF-8\")")
		}
	}
	return text, nil
}

// separator guesses how the cells of a heading are told apart.
func separator(text []byte) rune {
	heading, _, _ := bytes.Cut(text, []byte("\n"))
	best, most := ',', 0
	for _, c := range []rune{',', ';', '\t'} {
		if n := bytes.Count(heading, []byte(string(c))); n > most {
			best, most = c, n
		}
	}
	return best
}

// ReadCSV reads the items of one kind. The first line is the heading, whose words are the names of fields, or are mapped to them; a heading
// that is mapped to "" is passed over. A column that is not there leaves its field as it is. Cells are separated by commas, semicolons or
// tabs. Error: Flaws, of all lines, at most a thousand; the items of the other
// lines come with it.
func ReadCSV(r io.Reader, kind declare.Kind, mapped map[string]string) (File, error) {
	text, err := plain(r)
	if err != nil {
		return File{}, err
	}
	c := csv.NewReader(bytes.NewReader(text))
	c.FieldsPerRecord, c.Comma = -1, separator(text)
	heading, err := c.Read()
	if err != nil {
		return File{}, badCSV(err)
	}
	columns, flaws := columnsOf(kind, heading, mapped)
	if len(flaws) > 0 {
		return File{}, flaws
	}
	var out File
	for len(flaws) < maxFlaws {
		row, err := c.Read()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return File{}, append(flaws, badCSV(err)...)
		}
		if strings.TrimSpace(strings.Join(row, "")) == "" {
			continue
		}
		item, wrong := itemOf(kind, columns, heading, row, func(i int) declare.Place {
			line,
				_ := c.FieldPos(i)
			return declare.Place{Line: line, Column: i + 1}
		})
		if flaws = append(flaws, wrong...); len(wrong) == 0 {
			out.Items = append(out.Items, item)
		}
	}
	if len(flaws) > 0 {
		return out, flaws
	}
	return out, nil
}

func badCSV(err error) Flaws {
	var bad *csv.ParseError
	switch {
	case errors.Is(err, io.EOF):
		return flaw(1, "", "the file is empty: its first line is the heading")
	case errors.As(err, &bad):
		return flaw(bad.Line, "", "is not comma-separated values: %v", bad.Err)
	}
	return flaw(1, "", "%v", err)
}

// columnsOf says which field each column has; one without a name is passed over.
func columnsOf(kind declare.Kind, heading []string, mapped map[string]string) (out []declare.Field, flaws Flaws) {
	allowed := []string{}
	if kind != declare.Site {
		allowed = append(allowed, "site")
	}
	for _, f := range kind.Fields() {
		allowed = append(allowed, f.Name)
	}
	seen := map[string]bool{}
	for _, title := range heading {
		title = strings.TrimSpace(title)
		name, ok := mapped[title]
		if !ok {
			name = strings.ToLower(strings.ReplaceAll(title, " ", "_"))
		}
		f, known := kind.Field(name)
		switch {
		case name == "site" && kind != declare.Site:
			f = declare.Field{Name: name}
		case name == "":
		case !known:
			flaws = append(flaws, flaw(1, title, "is no field of a %s; there are %s. Map it, or map it to nothing to pass it over", kind,
				strings.Join(allowed, ", "))...)
		}
		if name != "" && seen[name] {
			flaws = append(flaws, flaw(1, title, "is there twice: %s", name)...)
		}
		seen[name] = true
		out = append(out, f)
	}
	for title := range mapped {
		if !slices.ContainsFunc(heading, func(h string) bool { return strings.TrimSpace(h) == title }) {
			flaws = append(flaws, flaw(1, title, "is mapped, and no heading of the file")...)
		}
	}
	for _, needed := range []string{"site", kind.Key()} {
		if slices.Contains(allowed, needed) && !seen[needed] && len(flaws) == 0 {
			flaws = append(flaws, flaw(1, needed, "is missing: no column says it")...)
		}
	}
	return out, flaws
}

// itemOf reads one line.
func itemOf(kind declare.Kind, columns []declare.Field, heading, row []string, at func(int) declare.Place) (declare.Item, Flaws) {
	item := declare.Item{Kind: kind, Fields: map[string]any{}, At: at(0), Places: map[string]declare.Place{}}
	var flaws Flaws
	for i, cell := range row {
		if i >= len(columns) {
			return item, append(flaws, flaw(at(i).Line, "", "has %d cells, the heading has %d", len(row), len(columns))...)
		}
		f, wrong := columns[i], func(format string, args ...any) {
			flaws = append(flaws, flaw(at(i).Line, strings.TrimSpace(heading[i]), format, args...)...)
		}
		if f.Name == "" {
			continue
		}
		item.Places[f.Name] = at(i)
		if len(cell) > maxCell {
			wrong("has %d kB; at most %d kB are taken", len(cell)>>10, maxCell>>10)
			continue
		}
		if strings.HasPrefix(strings.TrimSpace(cell), "=") {
			wrong("is a formula; export values instead")
			continue
		}
		value, err := f.Parse(unguarded(cell))
		if err != nil {
			wrong("%v", err)
			continue
		}
		switch {
		case f.Name == "site":
			item.Site = value.(string)
			continue
		case f.Name == kind.Key():
			item.Name = value.(string)
		}
		item.Fields[f.Name] = value
	}
	if kind == declare.Site {
		item.Site = item.Name
	}
	return item, flaws
}

// A spreadsheet takes a cell that begins with one of these for a formula.
const formula = "=+-@"

// guarded puts an apostrophe in front of what a spreadsheet would take for a formula, and of what has one already.
func guarded(cell string) string {
	if cell != "" && strings.ContainsRune(formula+"'", rune(cell[0])) {
		return "'" + cell
	}
	return cell
}

func unguarded(cell string) string {
	if len(cell) > 1 && cell[0] == '\'' && strings.ContainsRune(formula+"'", rune(cell[1])) {
		return cell[1:]
	}
	return cell
}

// WriteCSV writes the items of one kind. Error: that of w.
func WriteCSV(w io.Writer, kind declare.Kind, items []declare.Item) error {
	c := csv.NewWriter(w)
	fields := kind.Fields()
	var heading []string
	if kind != declare.Site {
		heading = append(heading, "site")
	}
	for _, f := range fields {
		heading = append(heading, f.Name)
	}
	if err := c.Write(heading); err != nil {
		return err
	}
	for _, i := range items {
		if i.Kind != kind {
			continue
		}
		var row []string
		if kind != declare.Site {
			row = append(row, guarded(i.Site))
		}
		for _, f := range fields {
			row = append(row, guarded(f.Cell(i.Fields[f.Name])))
		}
		if err := c.Write(row); err != nil {
			return err
		}
	}
	c.Flush()
	return c.Error()
}

// Template writes a file of one kind with one line to go by. Error: that of w.
func Template(w io.Writer, kind declare.Kind) error {
	example := declare.Item{Kind: kind, Site: "KET-07", Fields: map[string]any{}}
	for _, f := range kind.Fields() {
		v, _ := f.Parse(f.Example) // the examples are read by a test
		doc, _ := json.Marshal(v)
		var as any
		_ = json.Unmarshal(doc, &as)
		example.Fields[f.Name] = as
	}
	return WriteCSV(w, kind, []declare.Item{example})
}
