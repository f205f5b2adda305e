package contract

import "inkpost.example/inkpost/internal/core/declare"

// DeclaredStep is what a file changes of the record. Action is "add", "change" or "remove".
type DeclaredStep struct {
	Action string        `json:"action"`
	Kind   declare.Kind  `json:"kind"`
	Site   string        `json:"site"`
	Name   string        `json:"name"`
	Fields []FieldChange `json:"fields,omitempty"`
}

// Declared is what a file comes to: its steps, how many of its items are on record as they are, and what is wrong with it. Done reports
// whether the steps were taken; a flawed item has none.
type Declared struct {
	Steps     []DeclaredStep     `json:"steps"`
	Unchanged int                `json:"unchanged"`
	Flaws     []declare.LineFlaw `json:"flaws,omitempty"`
	Done      bool               `json:"done"`
}

// DeclaredNews says how far it is; Result is the last, or Failed, which says why nothing was changed after all.
type DeclaredNews struct {
	Done   int       `json:"done"`
	Of     int       `json:"of"`
	Result *Declared `json:"result,omitempty"`
	Failed string    `json:"failed,omitempty"`
}
