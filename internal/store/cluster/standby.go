package cluster

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"syscall"
)

// copy makes the folder of a standby.
func (c *Cluster) copy(ctx context.Context, of *Cluster) error {
	if err := c.run(ctx, "pg_basebackup", "-D", c.Dir, "-h", of.sock, "-p", socketPort, "-U", "inkpost", "--write-recovery-conf",
		"--wal-method",
		"stream", "--checkpoint", "fast", "--no-sync"); err != nil {
		return err
	}
	// The socket of the other one stands in its folder.
	if err := os.Remove(filepath.Join(c.Dir, ".s.PGSQL."+socketPort+".lock")); !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

// Promote makes a standby a server that writes. Error: one that is none.
func (c *Cluster) Promote(ctx context.Context) error {
	return c.run(ctx, "pg_ctl", "-D", c.Dir, "promote", "-w")
}

// Kill ends the server as a power cut would.
func (c *Cluster) Kill() {
	_ = syscall.Kill(-c.proc.Pid, syscall.SIGKILL) // and all that it has started
	<-c.exit
}

// URLOf is that of a database in whichever of two clusters writes.
func URLOf(database string, a, b *Cluster) string {
	return fmt.Sprintf("postgres://inkpost@/%s?host=%s&port=%s,%s&sslmode=disable&target_session_attrs=read-write", database,
		url.QueryEscape(a.sock+","+b.sock), socketPort, socketPort)
}
