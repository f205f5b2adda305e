package probe

import "unique"

// SharedOptions are Options in the room of a pointer: whoever has the same ones, most of them none, shares them. They are comparable, and
// equal where the options are. The zero SharedOptions are none.
type SharedOptions struct{ of unique.Handle[Options] }

// Share returns the options, shared with everybody who has the same.
func Share(o Options) SharedOptions {
	if o == (Options{}) {
		return SharedOptions{}
	}
	return SharedOptions{unique.Make(o)}
}

// Get returns the options.
func (s SharedOptions) Get() Options {
	if s == (SharedOptions{}) {
		return Options{}
	}
	return s.of.Value()
}
