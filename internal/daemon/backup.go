package daemon

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"time"

	"filippo.io/age"

	"inkpost.example/inkpost/internal/store"
	"inkpost.example/inkpost/internal/store/dump"
)

// Lock says who can read a backup: holders of the keys of recipients (age1...), or of a passphrase. The zero Lock is no lock.
type Lock struct {
	Recipients []string
	Passphrase string
}

func (l Lock) recipients() (out []age.Recipient, err error) {
	if l.Passphrase != "" && len(l.Recipients) > 0 {
		return nil, errors.New("a backup is locked by a passphrase or by recipients, not by both")
	}
	if l.Passphrase != "" {
		r, err := age.NewScryptRecipient(l.Passphrase)
		return []age.Recipient{r}, err
	}
	for _, text := range l.Recipients {
		r, err := age.ParseX25519Recipient(text)
		if err != nil {
			return nil, fmt.Errorf("recipient %q: %w; it is written age1..., as age-keygen prints it", text, err)
		}
		out = append(out, r)
	}
	return out, nil
}

// counted counts what is written.
type counted struct {
	io.Writer
	octets int64
}

// Write implements io.Writer.
func (c *counted) Write(p []byte) (int, error) {
	n, err := c.Writer.Write(p)
	c.octets += int64(n)
	return n, err
}

// Backup writes a copy of everything that is on record, as it is at one moment, while a server may go on, and returns how long it is in
// octets. Errors: that of the database, of pg_dump, of w, a recipient that is none.
func Backup(ctx context.Context, database string, w io.Writer, lock Lock) (octets int64, err error) {
	to, err := lock.recipients()
	if err != nil {
		return 0, err
	}
	st, err := store.Connect(ctx, database)
	if err != nil {
		return 0, err
	}
	defer st.Close()
	if err := st.CheckSchema(ctx); err != nil {
		return 0, err
	}
	out := &counted{Writer: w}
	plain, finish := io.Writer(out), func() error { return nil }
	if len(to) > 0 {
		sealed, err := age.Encrypt(out, to...)
		if err != nil {
			return 0, err
		}
		plain, finish = sealed, sealed.Close
	}
	if err := dump.Take(ctx, database, plain); err != nil {
		return out.octets, err
	}
	if err := finish(); err != nil {
		return out.octets, err
	}
	return out.octets, nil
}

// NoteBackup has the database remember a backup, once that is where it is kept. Error: that of the database.
func NoteBackup(ctx context.Context, database string, at time.Time, octets int64, locked bool) error {
	st, err := store.Connect(ctx, database)
	if err != nil {
		return err
	}
	defer st.Close()
	host, err := os.Hostname()
	if err != nil {
		host = "unknown"
	}
	return st.NoteBackup(ctx, at, octets, host, locked)
}

// Keys open what a Lock has locked.
type Keys struct {
	Identities io.Reader // as age-keygen writes them; nil for none
	Passphrase string
}

// ErrLocked reports a backup that was locked, and no key to it.
var ErrLocked = errors.New("this backup is locked; give --identity FILE, or --passphrase-file FILE")

func (k Keys) open(r io.Reader) (io.Reader, error) {
	var by []age.Identity
	if k.Passphrase != "" {
		one, err := age.NewScryptIdentity(k.Passphrase)
		if err != nil {
			return nil, err
		}
		by = append(by, one)
	}
	if k.Identities != nil {
		list, err := age.ParseIdentities(k.Identities)
		if err != nil {
			return nil, fmt.Errorf("identities: %w", err)
		}
		by = append(by, list...)
	}
	if len(by) == 0 {
		return nil, ErrLocked
	}
	out, err := age.Decrypt(r, by...)
	if err != nil {
		return nil, fmt.Errorf("this key does not open the backup: %w", err)
	}
	return out, nil
}

// Restored says what became of a backup that was put back.
type Restored struct{ Sites, Zones, Sessions int }

// Restore fills an empty database from a backup and makes it ready for a server: sessions are ended, and the serials of hosted zones are
// raised far enough that secondaries take the zones although they have seen later changes. Errors: store.ErrNotEmpty, ErrLocked, a file
// that is no backup, that of the database.
func Restore(ctx context.Context, database string, r io.Reader, keys Keys) (out Restored, err error) {
	st, err := store.Connect(ctx, database)
	if err != nil {
		return out, err
	}
	defer st.Close()
	if err := st.CheckEmpty(ctx); err != nil {
		return out, err
	}
	const locked = "age-encryption.org/"
	file := bufio.NewReader(r)
	head, _ := file.Peek(len(locked))
	plain := io.Reader(file)
	switch {
	case string(head) == locked:
		if plain, err = keys.open(file); err != nil {
			return out, err
		}
	case len(head) < len(dump.Magic) || string(head[:len(dump.Magic)]) != dump.Magic:
		return out, errors.New("this file is no backup that inkpost backup has made")
	}
	if err := dump.Put(ctx, database, plain); err != nil {
		return out, err
	}
	back, err := store.Open(ctx, database) // brings an older schema up to date
	if err != nil {
		return out, err
	}
	defer back.Close()
	out.Sites, out.Zones, out.Sessions, err = back.Reawaken(ctx)
	if err != nil {
		return out, err
	}
	act := store.Act{Kind: "backup.restore", Words: "Put a backup back", Status: 200}
	act.At.Time = time.Now()
	return out, back.EndAct(ctx, act)
}
