//go:build !unix

package command

import "os"

// reloadSignals is one that never comes on this system: restart the service instead.
var reloadSignals = []os.Signal{noSignal{}}

type noSignal struct{}

func (noSignal) String() string { return "none" }
func (noSignal) Signal()        {}
