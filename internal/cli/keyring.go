package cli

import (
	"errors"
	"fmt"
	"os"
	"runtime"
	"time"

	"github.com/zalando/go-keyring"
)

// Where keys can be kept.
const (
	keepAuto = "auto"
	keepFile = "file"
	keepRing = "ring"
)

// ringService is what our keys are filed under in the system's key ring.
const ringService = "inkpost"

// ringPatience is how long a key ring may take: one that is locked asks its owner first.
const ringPatience = 20 * time.Second

// ringThere reports whether this account has a key ring at all: without a session bus, Linux has none.
func ringThere() bool {
	return runtime.GOOS != "linux" || os.Getenv("DBUS_SESSION_BUS_ADDRESS") != ""
}

// within bounds how long the key ring is waited for.
func within[T any](f func() (T, error)) (out T, err error) {
	type result struct {
		out T
		err error
	}
	done := make(chan result, 1)
	go func() {
		out, err := f()
		done <- result{out, err}
	}()
	select {
	case r := <-done:
		return r.out, r.err
	case <-time.After(ringPatience):
		return out, fmt.Errorf("the system's key ring did not answer within %s; is it locked?", ringPatience)
	}
}

func (l login) ringName() string { return l.Name + " at " + l.Server }

// toRing moves the key of a login to the system's key ring.
func (l login) toRing() (login, error) {
	if !ringThere() {
		return l, errors.New("this account has no key ring (no session bus); keep the key in a file: --keep file")
	}
	_, err := within(func() (bool, error) { return true, keyring.Set(ringService, l.ringName(), l.Key) })
	if err != nil {
		return l, fmt.Errorf("the system's key ring: %w", err)
	}
	l.Key, l.Ring = "", true
	return l, nil
}

// opened is a login with its key, wherever that is kept.
func (l login) opened() (login, error) {
	if !l.Ring {
		return l, nil
	}
	key, err := within(func() (string, error) { return keyring.Get(ringService, l.ringName()) })
	if err != nil {
		return l, fmt.Errorf("the key to %s is in the system's key ring, and cannot be had: %w; log in again, or give INKPOST_KEY",
			l.Server,
			err)
	}
	l.Key = key
	return l, nil
}

// forget takes the key of a login out of the system's key ring, where it is there.
func (l login) forget() error {
	if !l.Ring {
		return nil
	}
	_, err := within(func() (bool, error) { return true, keyring.Delete(ringService, l.ringName()) })
	if errors.Is(err, keyring.ErrNotFound) {
		return nil
	}
	return err
}
