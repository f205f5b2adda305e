// Package cluster runs a private PostgreSQL from Debian's server binaries: made in a folder of its own, under a user that is not
// root, stopped when its owner stops. It listens on no network, but on a socket in a folder that nobody else may enter.
package cluster

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	_ "github.com/jackc/pgx/v5/stdlib" // the driver "pgx"
)

// Cluster is a running private PostgreSQL.
type Cluster struct {
	Dir  string
	bin  string
	sock string // folder of the socket
	as   *syscall.Credential
	exit chan error
	proc *os.Process
}

// Options of Start.
type Options struct {
	Dir string // the cluster's folder; made if it is not there
	// Fast trades durability for speed: for tests whose data nobody needs after a power cut.
	Fast bool
	// Of is the cluster of which a new one becomes a standby, by streaming replication. Nil for one of its own.
	Of *Cluster
}

// Start makes the cluster where Dir is new, starts its server and waits until it answers. Errors: no PostgreSQL installed, a folder that
// the database's user cannot reach, what the server said.
func Start(ctx context.Context, o Options) (*Cluster, error) {
	bin, err := binaries()
	if err != nil {
		return nil, err
	}
	c := &Cluster{Dir: filepath.Join(o.Dir, "postgres"), bin: bin}
	if c.as, err = runAs(); err != nil {
		return nil, err
	}
	if err := os.MkdirAll(o.Dir, 0o755); err != nil {
		return nil, err
	}
	if err := os.MkdirAll(c.Dir, 0o700); err != nil {
		return nil, err
	}
	if c.as != nil {
		// The other user needs to reach its folder, and owns only that.
		if err := os.Chmod(o.Dir, 0o711); err != nil {
			return nil, err
		}
		if err := os.Chown(c.Dir, int(c.as.Uid), int(c.as.Gid)); err != nil {
			return nil, err
		}
		if err := enterable(o.Dir); err != nil {
			return nil, err
		}
	}
	if _, err := os.Stat(filepath.Join(c.Dir, "PG_VERSION")); errors.Is(err, fs.ErrNotExist) {
		if o.Of != nil {
			err = c.copy(ctx, o.Of)
		} else {
			err = c.run(ctx, "initdb", "-D", c.Dir, "-U", "inkpost", "-A", "trust", "-E", "UTF8", "--locale=C.UTF-8",
				"--no-sync")
		}
		if err != nil {
			return nil, err
		}
	} else if c.run(ctx, "pg_ctl", "-D", c.Dir, "status") == nil {
		// Left over from an owner that was killed: it is ours, and it has to give the folder up.
		if err := c.run(ctx, "pg_ctl", "-D", c.Dir, "-m", "fast", "-w", "stop"); err != nil {
			return nil, err
		}
	}
	if err := c.serve(o.Fast); err != nil {
		return nil, err
	}
	if err := c.await(ctx); err != nil {
		c.Stop()
		return nil, err
	}
	return c, nil
}

// binaries finds the newest server that Debian installed, or the one on the PATH.
func binaries() (string, error) {
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/initdb")
	if len(found) > 0 {
		newest := slices.MaxFunc(found, func(a, b string) int { return version(a) - version(b) })
		return filepath.Dir(newest), nil
	}
	if p, err := exec.LookPath("initdb"); err == nil {
		return filepath.Dir(p), nil
	}
	return "", errors.New("PostgreSQL's server is not installed; install it (Debian: apt-get install postgresql) or give --database-url")
}

func version(path string) int {
	n, _ := strconv.Atoi(filepath.Base(filepath.Dir(filepath.Dir(path))))
	return n
}

// runAs returns the user to run under: nil (our own) unless that is root, which PostgreSQL refuses.
func runAs() (*syscall.Credential, error) {
	if os.Geteuid() != 0 {
		return nil, nil
	}
	for _, name := range []string{"postgres", "nobody"} {
		u, err := user.Lookup(name)
		if err != nil {
			continue
		}
		uid, err1 := strconv.ParseUint(u.Uid, 10, 32)
		gid, err2 := strconv.ParseUint(u.Gid, 10, 32)
		if err1 == nil && err2 == nil {
			return &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}, nil
		}
	}
	return nil, errors.New("PostgreSQL does not run as root, and there is neither a user postgres nor nobody to run it as")
}

// enterable checks that others may pass through every folder down to dir.
func enterable(dir string) error {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return err
	}
	for parent := dir; ; parent = filepath.Dir(parent) {
		info, err := os.Stat(parent)
		if err != nil {
			return err
		}
		if info.Mode().Perm()&0o001 == 0 {
			return fmt.Errorf("PostgreSQL runs as another user than root, who may not enter %s; choose a folder elsewhere, such as "+
				"under /var/tmp", parent)
		}
		if parent == filepath.Dir(parent) {
			return nil
		}
	}
}

func (c *Cluster) command(ctx context.Context, program string, args ...string) *exec.Cmd {
	cmd := exec.CommandContext(ctx, filepath.Join(c.bin, program), args...)
	cmd.Dir = c.Dir
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: c.as}
	cmd.Env = append(os.Environ(), "LC_ALL=C.UTF-8")
	return cmd
}

func (c *Cluster) run(ctx context.Context, program string, args ...string) error {
	out, err := c.command(ctx, program, args...).CombinedOutput()
	if err != nil {
		return fmt.Errorf("%s: %w: %s", program, err, strings.TrimSpace(string(out)))
	}
	return nil
}

// serve starts the server. The kernel stops it when we are killed: it is bound to the thread that starts it, which
// therefore stays.
func (c *Cluster) serve(fast bool) error {
	if err := c.makeSocketDir(); err != nil {
		return err
	}
	args := []string{"-D", c.Dir, "-p", socketPort, "-c", "listen_addresses=", "-c", "unix_socket_directories=" + c.sock, "-c",
		"unix_socket_permissions=0700",
		"-c", "max_connections=100", "-c", "log_min_messages=warning"}
	if fast {
		args = append(args, "-c", "fsync=off", "-c", "full_page_writes=off", "-c", "synchronous_commit=off")
	}
	logFile, err := os.OpenFile(filepath.Join(filepath.Dir(c.Dir), "postgres.log"), os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600)
	if err != nil {
		return err
	}
	defer logFile.Close()
	cmd := c.command(context.Background(), "postgres", args...)
	cmd.SysProcAttr.Pdeathsig = syscall.SIGINT // "fast shutdown"
	cmd.SysProcAttr.Setpgid = true             // an interrupt typed at the terminal is for us; we stop it after our own work
	cmd.Stdout, cmd.Stderr = logFile, logFile
	c.exit = make(chan error, 1)
	started := make(chan error)
	go func() {
		runtime.LockOSThread()
		err := cmd.Start()
		started <- err
		if err == nil {
			c.exit <- cmd.Wait()
			close(c.exit) // whoever waits later knows that it has ended
		}
	}()
	if err := <-started; err != nil {
		return fmt.Errorf("start postgres: %w", err)
	}
	c.proc = cmd.Process
	return nil
}

// socketPort is what the socket is called after: there is one in its folder.
const socketPort = "5432"

// makeSocketDir finds a folder for the socket that only its owner and root may enter: the cluster's own, or, where the system allows
// no path that long, a new one.
func (c *Cluster) makeSocketDir() error {
	const most, name = 107, len("/.s.PGSQL.") + len(socketPort)
	if c.sock = c.Dir; len(c.Dir)+name <= most && !strings.Contains(c.Dir, ",") {
		return nil
	}
	dir, err := os.MkdirTemp("", "inkpost-pg-") // with mode 0700
	if err == nil && c.as != nil {
		err = os.Chown(dir, int(c.as.Uid), int(c.as.Gid))
	}
	c.sock = dir
	return err
}

func (c *Cluster) await(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	db, err := sql.Open("pgx", c.URL("postgres"))
	if err != nil {
		return err
	}
	defer db.Close()
	for {
		if err = db.PingContext(ctx); err == nil {
			break
		}
		select {
		case exit := <-c.exit:
			return fmt.Errorf("postgres stopped at once (%v); its log is in %s", exit, filepath.Join(filepath.Dir(c.Dir), "postgres.log"))
		case <-ctx.Done():
			return fmt.Errorf("postgres does not answer: %w", err)
		case <-time.After(30 * time.Millisecond):
		}
	}
	return c.makeDatabase(ctx, db, "inkpost", empty)
}

func (c *Cluster) makeDatabase(ctx context.Context, db *sql.DB, name, like string) error {
	var there bool
	if err := db.QueryRowContext(ctx, `SELECT EXISTS (SELECT FROM pg_database WHERE datname = $1)`, name).Scan(&there); err != nil ||
		there {
		return err
	}
	_, err := db.ExecContext(ctx, `CREATE DATABASE "`+name+`" TEMPLATE "`+like+`"`)
	return err
}

// empty is the database that others are made like.
const empty = "template1"

// NewDatabase makes another, empty database in the cluster and returns its URL. Error: that of the database.
func (c *Cluster) NewDatabase(ctx context.Context, name string) (string, error) {
	return c.DatabaseLike(ctx, name, empty)
}

// DatabaseLike makes another database in the cluster, with what is in one that nobody is connected to, and returns its URL. Error: that of
// the database.
func (c *Cluster) DatabaseLike(ctx context.Context, name, like string) (string, error) {
	db, err := sql.Open("pgx", c.URL("postgres"))
	if err != nil {
		return "", err
	}
	defer db.Close()
	return c.URL(name), c.makeDatabase(ctx, db, name, like)
}

// URL of a database in the cluster, for a program of the same user, or of root. The one that Start makes is called inkpost.
func (c *Cluster) URL(database string) string {
	return fmt.Sprintf("postgres://inkpost@/%s?host=%s&port=%s&sslmode=disable", database, url.QueryEscape(c.sock), socketPort)
}

// Stop ends the server and waits until it is gone.
func (c *Cluster) Stop() {
	_ = c.proc.Signal(syscall.SIGINT)
	select {
	case <-c.exit:
	case <-time.After(10 * time.Second):
		_ = c.proc.Kill()
		<-c.exit
	}
	if c.sock != c.Dir {
		_ = os.RemoveAll(c.sock)
	}
}
