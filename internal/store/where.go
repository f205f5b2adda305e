package store

import (
	"fmt"
	"strings"
)

// where is the condition of a list, of those parts alone that narrow it. One statement with all of them switched on and off by its
// arguments would get a plan that fits none: PostgreSQL would read the whole table for its newest rows.
type where struct {
	parts []string
	args  []any
}

// and adds a part where on says so; $ in it is its argument.
func (w *where) and(on bool, part string, arg any) {
	if !on {
		return
	}
	w.args = append(w.args, arg)
	w.parts = append(w.parts, strings.ReplaceAll(part, "$", w.place(len(w.args))))
}

// argument adds an argument that stands elsewhere in the statement, and returns its place there.
func (w *where) argument(arg any) string {
	w.args = append(w.args, arg)
	return w.place(len(w.args))
}

func (*where) place(n int) string { return fmt.Sprintf("$%d", n) }

// String returns the condition.
func (w *where) String() string {
	if len(w.parts) == 0 {
		return ""
	}
	return " WHERE " + strings.Join(w.parts, " AND ")
}
