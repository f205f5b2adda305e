package cli

import (
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"inkpost.example/inkpost/internal/daemon"
)

func backupCommand() *cobra.Command {
	var of database
	var passphrase string
	var lock daemon.Lock
	c := &cobra.Command{Use: "backup FILE", Short: "Copy everything on record into a file (needs the database)", Args: cobra.ExactArgs(1),
		Long: `Copy everything that is on record into a file, as it is at one moment, while the server goes on. The file is
what PostgreSQL's own pg_dump writes. It holds secrets: --recipient or --passphrase-file lock it, by age.
FILE - writes to standard output. inkpost doctor says when the newest backup is too old.

inkpost restore --from FILE puts it into an empty database.`,
		Example: `  inkpost backup /var/backups/inkpost/$(date +%a).dump --database-url postgres://inkpost@127.0.0.1:5432/inkpost
  inkpost backup nightly.dump --config /etc/inkpost/serve.yaml --recipient age1ql3z7hjy54pw3hyww5ayyfg7zqgvc7w3j2elw8zmrj2kg5sfn9aqmcac8p`,
		RunE: func(cmd *cobra.Command, args []string) (err error) {
			database, err := of.needed("")
			if err != nil {
				return err
			}
			if lock.Passphrase, err = secretIn(passphrase, "passphrase-file"); err != nil {
				return err
			}
			began := time.Now()
			var octets int64
			if args[0] == "-" {
				octets, err = daemon.Backup(cmd.Context(), database, cmd.OutOrStdout(), lock)
			} else {
				octets, err = backupTo(cmd, database, args[0], lock)
			}
			if err != nil {
				return err
			}
			if err := daemon.NoteBackup(cmd.Context(), database, began, octets, lock.Passphrase != "" ||
				len(lock.Recipients) > 0); err != nil {
				return fmt.Errorf("the backup is made, and the database could not be told: %w", err)
			}
			if args[0] != "-" {
				say(cmd, "%s: %d octets, made in %s.", args[0], octets, time.Since(began).Round(time.Millisecond))
			}
			return nil
		}}
	of.flags(c, "the server's PostgreSQL database")
	c.Flags().StringArrayVar(&lock.Recipients, "recipient", nil,
		"lock the file for the holder of this age key (age1...); give it again for each")
	c.Flags().StringVar(&passphrase, "passphrase-file", "", "lock the file by the passphrase on the first line of this file")
	return c
}

// backupTo writes a backup beside a file and puts it in its place when it is whole: who stops it in the middle keeps the one before.
func backupTo(cmd *cobra.Command, database, path string, lock daemon.Lock) (octets int64, err error) {
	f, err := os.OpenFile(path+".part", os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return 0, err
	}
	defer func() {
		if err != nil {
			_ = f.Close()
			_ = os.Remove(path + ".part")
		}
	}()
	done := make(chan struct{})
	defer close(done)
	go growing(cmd, f, done)
	if octets, err = daemon.Backup(cmd.Context(), database, f, lock); err != nil {
		return octets, err
	}
	if err := errors.Join(f.Sync(), f.Close()); err != nil {
		return octets, err
	}
	return octets, os.Rename(path+".part", path)
}

// growing says on a terminal how far a file has come.
func growing(cmd *cobra.Command, f *os.File, done <-chan struct{}) {
	if !onTerminal(cmd) {
		return
	}
	tick := time.NewTicker(500 * time.Millisecond)
	defer tick.Stop()
	for {
		select {
		case <-tick.C:
			if info, err := f.Stat(); err == nil {
				_, _ = fmt.Fprintf(cmd.ErrOrStderr(), "\r%d MiB written", info.Size()>>20)
			}
		case <-done:
			_, _ = fmt.Fprint(cmd.ErrOrStderr(), "\r\x1b[K")
			return
		}
	}
}

// secretIn reads the first line of a file; "" where no file is named.
func secretIn(path, flag string) (string, error) {
	if path == "" {
		return "", nil
	}
	text, err := os.ReadFile(path)
	if err != nil {
		return "", err
	}
	line, _, _ := strings.Cut(string(text), "\n")
	if line = strings.TrimRight(line, "\r"); line == "" {
		return "", usagef("--%s: the first line of %s is empty", flag, path)
	}
	return line, nil
}

// putBack fills an empty database from a backup.
func putBack(cmd *cobra.Command, from string, into database, identity, passphrase string) error {
	database, err := into.needed(": an empty PostgreSQL database")
	if err != nil {
		return err
	}
	keys := daemon.Keys{}
	if keys.Passphrase, err = secretIn(passphrase, "passphrase-file"); err != nil {
		return err
	}
	if identity != "" {
		f, err := os.Open(identity)
		if err != nil {
			return err
		}
		defer f.Close()
		keys.Identities = f
	}
	file := io.Reader(cmd.InOrStdin())
	if from != "-" {
		f, err := os.Open(from)
		if err != nil {
			return err
		}
		defer f.Close()
		file = f
	}
	r, err := daemon.Restore(cmd.Context(), database, file, keys)
	if err != nil {
		return err
	}
	say(cmd, "%d sites and %d zones are back; %d sessions were ended, and serials went ahead. Start inkpost serve on it.", r.Sites, r.Zones,
		r.Sessions)
	return nil
}
