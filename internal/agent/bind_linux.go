package agent

import (
	"syscall"

	"golang.org/x/sys/unix"
)

// bind ties a socket to an interface (SO_BINDTODEVICE), so that each link's traffic goes by its own. Since Linux 5.7 that needs no
// right.
func bind(name string) func(network, address string, c syscall.RawConn) error {
	if name == "" {
		return nil
	}
	return func(_, _ string, c syscall.RawConn) (err error) {
		if e := c.Control(func(fd uintptr) { err = unix.BindToDevice(int(fd), name) }); e != nil {
			return e
		}
		return err
	}
}
