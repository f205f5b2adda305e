//go:build !race

package locks

// Checked reports whether this build checks the order of locks.
const Checked = false

func taking(order) {}

func gave(order) {}
