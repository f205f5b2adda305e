package cli

import (
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"
)

// picked returns the columns that --columns asks for, in its order; all of them where it asks for none.
func picked[T any](cmd *cobra.Command, columns []column[T]) ([]column[T], error) {
	asked, _ := cmd.Flags().GetStringSlice("columns")
	if len(asked) == 0 {
		return columns, nil
	}
	var out []column[T]
	for _, name := range asked {
		i := slices.IndexFunc(columns, func(c column[T]) bool { return strings.EqualFold(c.title, strings.TrimSpace(name)) })
		if i < 0 {
			var titles []string
			for _, c := range columns {
				titles = append(titles, c.title)
			}
			return nil, usagef("--columns: there is no column %q; there are %s", name, strings.Join(titles, ", "))
		}
		out = append(out, columns[i])
	}
	return out, nil
}

// terminalWidth is how many characters fit beside each other on the terminal that a command prints to; 0 where it prints to none.
func terminalWidth(cmd *cobra.Command) int {
	f, ok := cmd.OutOrStdout().(*os.File)
	if !ok || !term.IsTerminal(int(f.Fd())) {
		return 0
	}
	width, _, err := term.GetSize(int(f.Fd()))
	if err != nil {
		return 0
	}
	return width
}

const (
	between = 3  // characters between columns
	least   = 10 // characters to which a column is shortened, and no further
)

// fitted returns the widths of columns that fit beside each other on a terminal: the widest are shortened first, none below what still says
// something. 0 fits everything.
func fitted(widths []int, terminal int) []int {
	out := slices.Clone(widths)
	total := between * (len(out) - 1)
	for _, w := range out {
		total += w
	}
	for terminal > 0 && total > terminal {
		widest := 0
		for i, w := range out {
			if w > out[widest] {
				widest = i
			}
		}
		if out[widest] <= least {
			break // it wraps
		}
		out[widest]--
		total--
	}
	return out
}

// shortened cuts a cell to a width.
func shortened(cell string, width int) string {
	r := []rune(cell)
	if len(r) <= width {
		return cell
	}
	return string(r[:width-1]) + "…"
}
