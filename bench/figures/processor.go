package figures

import (
	"syscall"
	"time"
)

// Processor is what this process has spent of processors.
func Processor() time.Duration {
	var u syscall.Rusage
	_ = syscall.Getrusage(syscall.RUSAGE_SELF, &u)
	return time.Duration(u.Utime.Nano() + u.Stime.Nano())
}
