// Package dump takes consistent copies of a whole database by PostgreSQL's own pg_dump, in its custom format, and puts them back by
// pg_restore.
package dump

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
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
func command(ctx context.Context, url, name string, args ...string) (*exec.Cmd, error) {
	config, err := pgx.ParseConfig(url)
	if err != nil {
		return nil, fmt.Errorf("database URL: %w", err)
	}
	path, err := program(name)
	if err != nil {
		return nil, err
	}
	cmd := exec.CommandContext(ctx, path, args...)
	cmd.Env = append(os.Environ(), "PGHOST="+config.Host, fmt.Sprintf("PGPORT=%d", config.Port), "PGUSER="+config.User,
		"PGPASSWORD="+config.Password, "PGDATABASE="+config.Database)
	if config.TLSConfig != nil {
		cmd.Env = append(cmd.Env, "PGSSLMODE=require")
	}
	return cmd, nil
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
func Take(ctx context.Context, url string, w io.Writer) error {
	cmd, err := command(ctx, url, "pg_dump", "--format=custom", "--no-owner", "--no-privileges")
	if err != nil {
		return err
	}
	cmd.Stdout = w
	return run(cmd, "pg_dump")
}

// Put fills an empty database from a copy: all of it, or nothing. Errors: that of the database, of pg_restore, of r.
func Put(ctx context.Context, url string, r io.Reader) error {
	config, err := pgx.ParseConfig(url)
	if err != nil {
		return fmt.Errorf("database URL: %w", err)
	}
	cmd, err := command(ctx, url, "pg_restore", "--no-owner", "--no-privileges", "--exit-on-error", "--single-transaction",
		"--dbname", config.Database)
	if err != nil {
		return err
	}
	cmd.Stdin = r
	return run(cmd, "pg_restore")
}
