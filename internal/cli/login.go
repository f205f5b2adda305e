package cli

import (
	"bufio"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
)

func loginCommand() *cobra.Command {
	var name, keep string
	var fromStdin bool
	c := &cobra.Command{
		Use: "login", Short: "Log in to a server and keep a key for this account", Args: cobra.NoArgs,
		Long: `Log in to a server. The password is asked for on the terminal, or read from the first line of
standard input with --password-stdin. A one-time password has to be replaced: the new one is
asked for too (the second line of standard input), and so is the code of a second factor. What is
kept is an access key, not the password; inkpost key list shows it, inkpost key revoke ends it.

Logins to several servers are kept beside each other: the newest is used, --server names another,
inkpost login use makes another the one that is used.`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			server, _ := cmd.Flags().GetString("server")
			if server == "" || name == "" {
				return usagef("--server and --name are required")
			}
			if !slices.Contains([]string{keepAuto, keepFile, keepRing}, keep) {
				return usagef("--keep %q is unknown; it is auto, file or ring", keep)
			}
			ask := asker(cmd, fromStdin)
			anonymous, err := client.New(server, "")
			if err != nil {
				return usageError{err}
			}
			password, err := ask("Password: ")
			if err != nil {
				return err
			}
			visit, err := anonymous.SignIn(cmd.Context(), name, password)
			if client.NeedsSecond(err) {
				code, asked := ask("The code of your authenticator, or a recovery code: ")
				if asked != nil {
					return asked
				}
				visit, err = anonymous.SignInAs(cmd.Context(), contract.SignIn{Name: name, Password: password, Code: code})
			}
			if err != nil {
				return err
			}
			if visit.ChoosePassword() {
				next, err := ask("That was a one-time password. Your new password (10 characters or more): ")
				if err != nil {
					return err
				}
				if err := visit.SetPassword(cmd.Context(), next); err != nil {
					return err
				}
			}
			host, _ := os.Hostname()
			key, err := visit.AddKey(cmd.Context(), "command line on "+orDash(host))
			if err != nil {
				return err
			}
			where, err := keepAt(login{Server: server, Name: name, Key: key.Secret}, keep)
			if err != nil {
				return err
			}
			_ = visit.SignOut(cmd.Context())
			say(cmd, "Logged in to %s as %s; the key is kept in %s.", server, name, where)
			return nil
		},
	}
	c.Flags().StringVar(&name, "name", "", "your name on the server")
	c.Flags().StringVar(&keep, "keep", keepAuto,
		"where the key is kept: ring is the system's key ring, file a file that only you can read, "+
			"auto the ring where there is one")
	c.Flags().BoolVar(&fromStdin, "password-stdin", false, "read the password from standard input")
	c.AddCommand(loginListCommand(), loginUseCommand(), loginForgetCommand())
	return c
}

// keepAt keeps a login where it was asked for, and says where that is.
func keepAt(l login, keep string) (where string, err error) {
	if keep == keepRing || keep == keepAuto && ringThere() {
		inRing, err := l.toRing()
		if err == nil {
			_, err = keepLogin(inRing)
			return "the system's key ring", err
		}
		if keep == keepRing {
			return "", err
		}
	}
	return keepLogin(l)
}

func asker(cmd *cobra.Command, fromStdin bool) func(string) (string, error) {
	lines := bufio.NewReader(cmd.InOrStdin())
	return func(prompt string) (string, error) {
		if fromStdin {
			line, err := lines.ReadString('\n')
			if line = strings.TrimRight(line, "\r\n"); line == "" {
				return "", fmt.Errorf("standard input has no more lines (%v)", err)
			}
			return line, nil
		}
		if !term.IsTerminal(int(os.Stdin.Fd())) {
			return "", usagef("standard input is not a terminal; give the password with --password-stdin")
		}
		_, _ = fmt.Fprint(cmd.ErrOrStderr(), prompt)
		secret, err := term.ReadPassword(int(os.Stdin.Fd()))
		_, _ = fmt.Fprintln(cmd.ErrOrStderr())
		return string(secret), err
	}
}

// sure asks before something is removed.
func sure(cmd *cobra.Command, yes bool, what string) error {
	if yes {
		return nil
	}
	if !term.IsTerminal(int(os.Stdin.Fd())) {
		return usagef("this removes %s; give --yes to skip the question", what)
	}
	_, _ = fmt.Fprintf(cmd.ErrOrStderr(), "Remove %s? Type yes: ", what)
	line, _ := bufio.NewReader(cmd.InOrStdin()).ReadString('\n')
	if strings.TrimSpace(line) != "yes" {
		return errors.New("nothing was removed")
	}
	return nil
}
