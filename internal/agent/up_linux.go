package agent

import (
	"time"

	"golang.org/x/sys/unix"
)

// machineUp returns how long this machine has been up, or 0 if it does not say.
func machineUp() time.Duration {
	var info unix.Sysinfo_t
	if unix.Sysinfo(&info) != nil {
		return 0
	}
	return time.Duration(info.Uptime) * time.Second
}
