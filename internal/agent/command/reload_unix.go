//go:build unix

package command

import (
	"os"
	"syscall"
)

var reloadSignals = []os.Signal{syscall.SIGHUP}
