package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"
)

// login is what the command line keeps of a server.
type login struct {
	Server string `json:"server"`
	Name   string `json:"name"`
	Key    string `json:"key,omitempty"`
	Ring   bool   `json:"key_ring,omitempty"` // the key is in the system's key ring
}

// logins are the logins that are kept: the one that is used where nothing else is said, and the others.
type logins struct {
	login
	Others []login `json:"others,omitempty"`
}

// at returns the login to a server; the one that is used where server is "".
func (l logins) at(server string) (login, bool) {
	if server == "" || same(server, l.Server) {
		return l.login, l.Server != ""
	}
	i := slices.IndexFunc(l.Others, func(o login) bool { return same(server, o.Server) })
	if i < 0 {
		return login{}, false
	}
	return l.Others[i], true
}

// with makes a login the one that is used.
func (l logins) with(next login) logins {
	out := logins{login: next}
	for _, o := range append([]login{l.login}, l.Others...) {
		if o.Server != "" && !same(o.Server, next.Server) {
			out.Others = append(out.Others, o)
		}
	}
	return out
}

// without forgets the login to a server; the next is used in its place.
func (l logins) without(server string) logins {
	all := slices.DeleteFunc(append([]login{l.login}, l.Others...), func(o login) bool { return o.Server == "" || same(o.Server, server) })
	if len(all) == 0 {
		return logins{}
	}
	return logins{login: all[0], Others: all[1:]}
}

func same(a, b string) bool { return strings.TrimSuffix(a, "/") == strings.TrimSuffix(b, "/") }

func loginFile() (string, error) {
	dir, err := os.UserConfigDir()
	if err != nil {
		return "", fmt.Errorf("there is no folder for the login: %w", err)
	}
	return filepath.Join(dir, "inkpost", "login.json"), nil
}

func readLogins() (l logins, err error) {
	file, err := loginFile()
	if err != nil {
		return l, nil // flags and the environment still work
	}
	doc, err := os.ReadFile(file)
	if errors.Is(err, os.ErrNotExist) {
		return l, nil
	}
	if err != nil {
		return l, err
	}
	if err := json.Unmarshal(doc, &l); err != nil {
		return l, fmt.Errorf("%s cannot be read: %w; remove it and log in again", file, err)
	}
	return l, nil
}

// keepLogin keeps a login as the one that is used, with its key in the file, and returns that.
func keepLogin(next login) (string, error) {
	l, err := readLogins()
	if err != nil {
		return "", err
	}
	return l.with(next).write()
}

// write replaces the file whole: who stops it in the middle finds the old one.
func (l logins) write() (string, error) {
	file, err := loginFile()
	if err != nil {
		return "", err
	}
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return "", err
	}
	doc, err := json.MarshalIndent(l, "", "  ")
	if err != nil {
		return "", err
	}
	next := file + ".next"
	if err := os.WriteFile(next, append(doc, '\n'), 0o600); err != nil {
		return "", err
	}
	return file, os.Rename(next, file)
}

func loginListCommand() *cobra.Command {
	return &cobra.Command{Use: "list", Short: "List the servers that you are logged in to", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			l, err := readLogins()
			if err != nil {
				return err
			}
			type row struct {
				Server string `json:"server"`
				Name   string `json:"name"`
				Kept   string `json:"kept"`
				Used   bool   `json:"used"`
			}
			rows := []row{}
			for i, o := range append([]login{l.login}, l.Others...) {
				if o.Server != "" {
					rows = append(rows, row{o.Server, o.Name, map[bool]string{true: "key ring", false: "file"}[o.Ring], i == 0})
				}
			}
			return show(cmd, rows,
				column[row]{title: "server", text: func(r row) string { return r.Server }, tone: func(row) tone { return strong }},
				column[row]{title: "name", text: func(r row) string { return r.Name }},
				column[row]{title: "key in", text: func(r row) string { return r.Kept }},
				column[row]{title: "used", text: func(r row) string { return yes(r.Used) }})
		}}
}

var errNoLogin = errors.New("you are not logged in to that server; inkpost login list shows where you are")

func loginUseCommand() *cobra.Command {
	return &cobra.Command{Use: "use SERVER", Short: "Use another server that you are logged in to", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			l, err := readLogins()
			if err != nil {
				return err
			}
			next, ok := l.at(args[0])
			if !ok {
				return errNoLogin
			}
			if _, err := l.with(next).write(); err != nil {
				return err
			}
			say(cmd, "Commands go to %s as %s from now on.", next.Server, next.Name)
			return nil
		}}
}

func loginForgetCommand() *cobra.Command {
	return &cobra.Command{Use: "forget SERVER", Short: "Forget the key to a server; inkpost key revoke makes it useless",
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			l, err := readLogins()
			if err != nil {
				return err
			}
			old, ok := l.at(args[0])
			if !ok {
				return errNoLogin
			}
			if err := old.forget(); err != nil {
				return err
			}
			if _, err := l.without(args[0]).write(); err != nil {
				return err
			}
			say(cmd, "The key to %s is forgotten.", args[0])
			return nil
		}}
}
