package checkup

import (
	"time"

	"golang.org/x/sys/unix"

	"inkpost.example/inkpost/internal/core/checkup"
)

// room is how much of a file system is free for us, and how large it is, in octets.
func room(path string) (free, size uint64, err error) {
	var s unix.Statfs_t
	err = unix.Statfs(path, &s)
	return s.Bavail * uint64(s.Bsize), s.Blocks * uint64(s.Bsize), err
}

// clock asks the kernel whether its clock follows a time server.
func clock() checkup.Time {
	var t unix.Timex
	if _, err := unix.Adjtimex(&t); err != nil {
		return checkup.Time{}
	}
	return checkup.Time{Told: true, Synced: t.Status&unix.STA_UNSYNC == 0, Error: time.Duration(t.Esterror) * time.Microsecond}
}
