// Package cli is the command line. It asks the server through the client and prints; it computes nothing.
package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"inkpost.example/inkpost/internal/agent/command"
	"inkpost.example/inkpost/internal/client"
)

// Version of the program, set when it is built.
var Version = "development"

// usageError is a command line that cannot be carried out as it was typed. It ends with exit code 2.
type usageError struct{ error }

func usagef(format string, args ...any) error { return usageError{fmt.Errorf(format, args...)} }

// Main runs the command line and returns its exit code: 0 done, 1 failed, 2 wrongly typed.
func Main(ctx context.Context, args []string) int {
	root := newRoot()
	root.SetArgs(args)
	cmd, err := root.ExecuteContextC(ctx)
	if err == nil {
		return 0
	}
	explain(cmd, err)
	var u usageError
	if errors.As(err, &u) {
		return 2
	}
	return command.ExitCode(err)
}

// explain prints an error: what is wrong, field by field, and where to read on.
func explain(cmd *cobra.Command, err error) {
	w := cmd.ErrOrStderr()
	var problem *client.Error
	var usage usageError
	switch {
	case errors.As(err, &problem) && len(problem.Errors) > 0:
		_, _ = fmt.Fprintln(w, "inkpost: not accepted; nothing was changed")
		var told []string
		for _, f := range problem.Errors {
			if line := fmt.Sprintf("  %s: %s", typedAs(cmd, f.Field), printable(f.Detail)); !slices.Contains(told, line) {
				told = append(told, line) // a range has two ends, and the person typed one thing
				_, _ = fmt.Fprintln(w, line)
			}
		}
	case errors.As(err, &usage):
		_, _ = fmt.Fprintf(w, "inkpost: %v\n  usage: %s\n", err, cmd.UseLine())
	default:
		_, _ = fmt.Fprintf(w, "inkpost: %s\n", printable(err.Error()))
	}
	if client.IsStatus(err, 401) && cmd.Name() != "login" {
		_, _ = fmt.Fprintln(w, "  sign in with: inkpost login --server URL --name NAME")
	}
}

// typedAs names a field as the person typed it: by the flag that gave it, or as the argument in the command's usage.
func typedAs(cmd *cobra.Command, field string) string {
	name := strings.ReplaceAll(field, "_", "-")
	for _, candidate := range []string{name, strings.TrimSuffix(name, "-seconds"),
		strings.TrimSuffix(strings.TrimSuffix(name, "-from"), "-to"), strings.TrimSuffix(name, "s"),
		strings.ReplaceAll(name, ".", "-"), map[string]string{"servers": "ns", "extras": "extra", "options": "option",
			"sources": "source", "change-at": "at", "interval-seconds": "every", "position": "order"}[name]} {
		if base, _, indexed := strings.Cut(candidate, "["); indexed {
			candidate = base
		}
		if candidate != "" && cmd.Flags().Lookup(candidate) != nil {
			return "--" + candidate
		}
	}
	for _, word := range strings.Fields(cmd.Use)[1:] {
		if strings.EqualFold(strings.Trim(word, "[]."), name) {
			return strings.Trim(word, "[].")
		}
	}
	return field
}

// The groups of commands, in the order of the work.
const (
	groupStart   = "start"
	groupRecord  = "record"
	groupInstall = "install"
	groupLook    = "look"
	groupLab     = "lab"
)

func newRoot() *cobra.Command {
	cobra.EnableCommandSorting = false
	root := &cobra.Command{
		Use:   "inkpost",
		Short: "Keeps sites' names pointed at their changing addresses and proves from outside that their services answer",
		Long: `Ink Post looks after customers' sites whose public addresses keep changing: it keeps each
hostname pointed, probes each exposed service from outside, and says which hop is broken
and what to do.

The commands below stand in the order of the work: start a server, put a site on record,
start the agent there, then look whether everything answers.`,
		Example: `  inkpost login --server http://127.0.0.1:8460 --name owner
  inkpost site add KET-07 --name "Lighthouse Museum"
  inkpost link add KET-07 main --provider "Kettle Cable"
  inkpost hostname add ket-07.isles.saltmarsh.example --site KET-07
  inkpost device add KET-07 recorder --lan-address 192.168.7.20 --mac 02:00:5e:07:00:01
  inkpost service add KET-07 recorder-page --device recorder --external 8443 --internal 443
  inkpost agent invite KET-07
  inkpost why KET-07`,
		SilenceUsage: true, SilenceErrors: true,
		Version:           Version,
		PersistentPreRunE: func(cmd *cobra.Command, _ []string) error { return command.FromEnvironment(cmd) },
	}
	root.AddGroup(
		&cobra.Group{ID: groupStart, Title: "1. Start and sign in"},
		&cobra.Group{ID: groupRecord, Title: "2. Put a site on record"},
		&cobra.Group{ID: groupInstall, Title: "3. At the site"},
		&cobra.Group{ID: groupLook, Title: "4. Look whether it works"},
		&cobra.Group{ID: groupLab, Title: "In the demo"},
	)
	root.PersistentFlags().String("server", "", "the server's address, such as http://127.0.0.1:8460 (default: where you logged in)")
	root.PersistentFlags().String("key", "", "an access key (default: the one that login kept)")
	root.PersistentFlags().String("format", "table", "how lists are printed: table, json, yaml or csv")
	root.PersistentFlags().StringSlice("columns", nil, "the columns of a list, in this order, such as site,address (table and csv)")
	root.PersistentFlags().Duration("watch", 0, "show a list again each so often until Ctrl-C, such as --watch 5s")
	root.PersistentFlags().Bool("no-colour", false, "print without colour, even on a terminal")
	root.SetFlagErrorFunc(func(_ *cobra.Command, err error) error { return usageError{err} })
	in := func(group string, commands ...*cobra.Command) {
		for _, c := range commands {
			c.GroupID = group
			root.AddCommand(c)
		}
	}
	in(groupStart, serveCommand(), demoCommand(), loginCommand(), ownerCommand(), personCommand(), keyCommand(), settingsCommand(),
		doctorCommand(), consistencyCommand(), backupCommand(), secretsKeyCommand(), manualCommand())
	in(groupRecord, zoneCommand(), siteCommand(), linkCommand(), hostnameCommand(), aliasCommand(), redirectCommand(),
		recordCommand(), signingKeyCommand(), deviceCommand(), serviceCommand(), kindsCommand(), kitCommand(), removedCommand(),
		restoreCommand(),
		exportCommand(), importCommand(), applyCommand())
	in(groupInstall, agentCommand(), commissionCommand(), sheetCommand(), contactCommand(), visitCommand(), photoCommand(),
		vantageCommand(), serversCommand())
	in(groupLook, overviewCommand(), whyCommand(), causeCommand(), probeCommand(), movesCommand(), faultCommand(), plannedCommand(),
		noticeCommand(), calendarCommand(), auditCommand(), watchCommand())
	in(groupLab, labCommand())
	root.SetHelpCommandGroupID(groupStart)
	root.SetCompletionCommandGroupID(groupStart)
	tidy(root)
	return root
}

// tidy makes every command refuse what it does not know as a wrongly typed command line.
func tidy(cmd *cobra.Command) {
	for _, c := range cmd.Commands() {
		tidy(c)
	}
	if check := cmd.Args; check != nil {
		cmd.Args = func(c *cobra.Command, args []string) error {
			if err := check(c, args); err != nil {
				return usageError{err}
			}
			return nil
		}
	}
	if cmd.HasSubCommands() && cmd.RunE == nil {
		cmd.Args = cobra.ArbitraryArgs
		cmd.RunE = func(c *cobra.Command, args []string) error {
			if len(args) > 0 {
				if near := nearest(c, args[0]); len(near) > 0 {
					return usagef("%q is not a command of %s; did you mean %s?", args[0], c.CommandPath(), strings.Join(near, " or "))
				}
				return usagef("%q is not a command of %s", args[0], c.CommandPath())
			}
			return c.Help()
		}
	}
}

// farthest is how many letters of a command may be wrong for another to be suggested.
const farthest = 3

// nearest returns the commands whose names differ least from an unknown word.
func nearest(c *cobra.Command, word string) (near []string) {
	for c.SuggestionsMinimumDistance = 1; len(near) == 0 && c.SuggestionsMinimumDistance <= farthest; c.SuggestionsMinimumDistance++ {
		near = c.SuggestionsFor(word)
	}
	return near
}

// group makes a command that only holds others.
func group(use, short string, commands ...*cobra.Command) *cobra.Command {
	c := &cobra.Command{Use: use, Short: short}
	c.AddCommand(commands...)
	return c
}

// connect makes the client that a command speaks through.
func connect(cmd *cobra.Command) (*client.Client, error) {
	server, _ := cmd.Flags().GetString("server")
	key, _ := cmd.Flags().GetString("key")
	all, err := readLogins()
	if err != nil {
		return nil, err
	}
	if kept, ok := all.at(server); ok {
		if server = kept.Server; key == "" {
			if kept, err = kept.opened(); err != nil {
				return nil, err
			}
			key = kept.Key
		}
	}
	if server == "" {
		return nil, errors.New("not logged in; log in with: inkpost login --server URL --name NAME (or try the demo: make demo)")
	}
	return client.New(server, key)
}
