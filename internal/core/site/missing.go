package site

import "fmt"

// Missing reports that what was asked for is not on record.
type Missing struct{ Kind, Name string }

func (e Missing) Error() string { return fmt.Sprintf("there is no %s %q", e.Kind, e.Name) }
