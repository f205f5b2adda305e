// Package dump takes consistent copies of a whole database by PostgreSQL's own pg_dump, in its custom format, and puts them back by
// pg_restore.
package dump

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"
)

// Magic is what a copy begins with.
const Magic = "PGDMP"

// program finds one of PostgreSQL's programs: the newest that Debian has installed, or the one of the path.
func program(name string) (string, error) {
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/" + name)
	if len(found) > 0 {
		return slices.MaxFunc(found, func(a, b string) int { // versions are numbers: 9 comes before 15
			if len(a) != len(b) {
				return len(a) - len(b)
			}
			return strings.Compare(a, b)
		}), nil
	}
	path, err := exec.LookPath(name)
	if err != nil {
		return "", fmt.Errorf("%s is not installed here; install PostgreSQL's client programs (Debian: postgresql-client)", name)
	}
	return path, nil
}

// command makes one of PostgreSQL's programs speak to a database. The password is in its environment, where no list of processes shows it.
func command(ctx context.Context, database, name string, args ...string) (*exec.Cmd, error) {
	config, err := pgx.ParseConfig(database)
	if err != nil {
		return nil, fmt.Errorf("database URL: %w", err)
	}
	path, err := program(name)
	if err != nil {
		return nil, err
	}
	cmd := exec.CommandContext(ctx, path, append(args, "--dbname="+bare(database, config))...)
	cmd.Env = append(os.Environ(), "PGPASSWORD="+config.Password)
	return cmd, nil
}

// bare is a database's URL as PostgreSQL's own programs take it, with everything that it says of hosts and TLS: without the password, and
// without what only our pool of connections understands.
func bare(database string, config *pgx.ConnConfig) string {
	u, err := url.Parse(database)
	if err != nil || u.Scheme != "postgres" && u.Scheme != "postgresql" { // it is written host=... user=...
		quoted := strings.NewReplacer(`\`, `\\`, `'`, `\'`)
		return fmt.Sprintf("host='%s' port=%d user='%s' dbname='%s'", quoted.Replace(config.Host), config.Port,
			quoted.Replace(config.User), quoted.Replace(config.Database))
	}
	if u.User != nil {
		u.User = url.User(u.User.Username())
	}
	q := u.Query()
	for name := range q {
		if strings.HasPrefix(name, "pool_") || name == "password" {
			q.Del(name)
		}
	}
	u.RawQuery = q.Encode()
	return u.String()
}

// run runs a program and makes its words part of its error.
func run(cmd *exec.Cmd, name string) error {
	var said bytes.Buffer
	cmd.Stderr = &said
	err := cmd.Run()
	var missing *exec.Error
	if err == nil || errors.As(err, &missing) {
		return err
	}
	words, _, _ := strings.Cut(strings.TrimSpace(said.String()), "\n")
	return fmt.Errorf("%s: %w: %s", name, err, words)
}

// Take writes a copy of a database as it is at one moment, while others go on writing to it. Errors: that of the database, of pg_dump, of
// w.
func Take(ctx context.Context, database string, w io.Writer) error {
	cmd, err := command(ctx, database, "pg_dump", "--format=custom", "--no-owner", "--no-privileges")
	if err != nil {
		return err
	}
	cmd.Stdout = w
	return run(cmd, "pg_dump")
}

// Put fills an empty database from a copy: all of it, or nothing. Errors: that of the database, of pg_restore, of r.
func Put(ctx context.Context, database string, r io.Reader) error {
	cmd, err := command(ctx, database, "pg_restore", "--no-owner", "--no-privileges", "--exit-on-error", "--single-transaction")
	if err != nil {
		return err
	}
	cmd.Stdin = r
	return run(cmd, "pg_restore")
}
