package cli

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"github.com/spf13/cobra"
	"go.yaml.in/yaml/v3"
	"golang.org/x/term"
)

// tone is how a cell is printed on a terminal. Words say the same without it.
type tone string

const (
	plain     tone = ""
	strong    tone = "\x1b[1m"
	faded     tone = "\x1b[2m"
	wrong     tone = "\x1b[31m"
	unsettled tone = "\x1b[33m"
	proven    tone = "\x1b[32m"
	toneEnd        = "\x1b[0m"
)

// column of a list. machine is what CSV gets; the text for people if nil.
type column[T any] struct {
	title   string
	text    func(T) string
	machine func(T) string
	tone    func(T) tone
}

// show prints a list in the format that was asked for.
func show[T any](cmd *cobra.Command, rows []T, columns ...column[T]) error {
	format, _ := cmd.Flags().GetString("format")
	w := cmd.OutOrStdout()
	columns, err := picked(cmd, columns)
	if err != nil {
		return err
	}
	switch format {
	case "json", "yaml":
		if rows == nil {
			rows = []T{}
		}
		return document(w, format, rows)
	case "csv":
		return asCSV(w, rows, columns)
	case "table":
		asTable(w, coloured(cmd), terminalWidth(cmd), rows, columns)
		return nil
	}
	return usagef("--format %q is unknown; it is table, json, yaml or csv", format)
}

// showOne prints one thing: field by field for people, as its document for machines.
func showOne[T any](cmd *cobra.Command, one T, columns ...column[T]) error {
	format, _ := cmd.Flags().GetString("format")
	w := cmd.OutOrStdout()
	switch format {
	case "json", "yaml":
		return document(w, format, one)
	case "csv":
		return asCSV(w, []T{one}, columns)
	case "table":
		width := 0
		for _, c := range columns {
			width = max(width, utf8.RuneCountInString(c.title))
		}
		paint := painter(coloured(cmd))
		for _, c := range columns {
			t := plain
			if c.tone != nil {
				t = c.tone(one)
			}
			_, _ = fmt.Fprintf(w, "%s  %s\n", paint(faded, pad(c.title, width)), paint(t, printable(c.text(one))))
		}
		return nil
	}
	return usagef("--format %q is unknown; it is table, json, yaml or csv", format)
}

func document(w io.Writer, format string, v any) error {
	doc, err := json.MarshalIndent(v, "", "  ")
	if err != nil {
		return err
	}
	if format == "json" {
		_, err = fmt.Fprintln(w, string(doc))
		return err
	}
	// JSON is YAML: reading it as a node keeps the order of the fields.
	var node yaml.Node
	if err := yaml.Unmarshal(doc, &node); err != nil {
		return err
	}
	block(&node)
	var b bytes.Buffer
	e := yaml.NewEncoder(&b)
	e.SetIndent(2)
	if err := e.Encode(&node); err != nil {
		return err
	}
	_, err = w.Write(b.Bytes())
	return err
}

func block(n *yaml.Node) {
	if n.Kind != yaml.ScalarNode || n.Tag == "!!str" {
		n.Style = 0
	}
	for _, c := range n.Content {
		block(c)
	}
}

func asCSV[T any](w io.Writer, rows []T, columns []column[T]) error {
	out := csv.NewWriter(w)
	line := make([]string, len(columns))
	for i, c := range columns {
		line[i] = strings.ReplaceAll(c.title, " ", "_")
	}
	_ = out.Write(line)
	for _, r := range rows {
		for i, c := range columns {
			f := c.text
			if c.machine != nil {
				f = c.machine
			}
			line[i] = f(r)
		}
		_ = out.Write(line)
	}
	out.Flush()
	return out.Error()
}

func asTable[T any](w io.Writer, colour bool, terminal int, rows []T, columns []column[T]) {
	paint := painter(colour)
	width := make([]int, len(columns))
	cells := make([][]string, len(rows))
	for i, c := range columns {
		width[i] = utf8.RuneCountInString(c.title)
	}
	for n, r := range rows {
		cells[n] = make([]string, len(columns))
		for i, c := range columns {
			cells[n][i] = printable(strings.ReplaceAll(c.text(r), "\n", " "))
			width[i] = max(width[i], utf8.RuneCountInString(cells[n][i]))
		}
	}
	width = fitted(width, terminal)
	last := len(columns) - 1
	total := between * last
	var head strings.Builder
	for i, c := range columns {
		total += width[i]
		if i == last {
			head.WriteString(shortened(c.title, width[i]))
		} else {
			head.WriteString(pad(shortened(c.title, width[i]), width[i]) + "   ")
		}
	}
	_, _ = fmt.Fprintf(w, "%s\n%s\n", paint(strong, head.String()), strings.Repeat("━", total))
	for n, r := range rows {
		var line strings.Builder
		for i, c := range columns {
			t, cell := plain, shortened(cells[n][i], width[i])
			if c.tone != nil {
				t = c.tone(r)
			}
			if i < last {
				cell = pad(cell, width[i])
			}
			line.WriteString(paint(t, cell))
			if i < last {
				line.WriteString("   ")
			}
		}
		_, _ = fmt.Fprintln(w, strings.TrimRight(line.String(), " "))
	}
	if len(rows) == 0 {
		_, _ = fmt.Fprintln(w, "none")
	}
}

func pad(s string, width int) string {
	return s + strings.Repeat(" ", max(0, width-utf8.RuneCountInString(s)))
}

// painter colours text, or leaves it as it is.
func painter(colour bool) func(tone, string) string {
	return func(t tone, s string) string {
		if !colour || t == plain {
			return s
		}
		return string(t) + s + toneEnd
	}
}

// coloured reports whether output goes to a terminal whose user did not ask for none.
func coloured(cmd *cobra.Command) bool {
	if off, _ := cmd.Flags().GetBool("no-colour"); off || os.Getenv("NO_COLOR") != "" || os.Getenv("TERM") == "dumb" {
		return false
	}
	f, ok := cmd.OutOrStdout().(*os.File)
	return ok && term.IsTerminal(int(f.Fd()))
}

func say(cmd *cobra.Command, format string, args ...any) {
	_, _ = fmt.Fprintln(cmd.OutOrStdout(), printable(fmt.Sprintf(format, args...)))
}

// printable replaces control characters, which could steer the terminal: the text comes from devices, routers and strangers. Our own
// colours stay.
func printable(s string) string {
	if strings.IndexFunc(s, steers) < 0 {
		return s
	}
	var out strings.Builder
	for i, r := range s {
		if r == '\x1b' && slices.ContainsFunc([]tone{strong, faded, wrong, unsettled, proven, toneEnd},
			func(t tone) bool { return strings.HasPrefix(s[i:], string(t)) }) || !steers(r) {
			out.WriteRune(r)
		} else {
			out.WriteRune(utf8.RuneError)
		}
	}
	return out.String()
}

// steers reports whether a terminal may act on a character instead of showing it.
func steers(r rune) bool {
	return r != '\n' && r != '\t' && (unicode.IsControl(r) || unicode.Is(unicode.Bidi_Control, r))
}

// documentLine prints a document on one line.
func documentLine(w io.Writer, v any) error { return json.NewEncoder(w).Encode(v) }
