package cli

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
)

func removedColumns() []column[contract.Removed] {
	return []column[contract.Removed]{
		{title: "removal", text: func(r contract.Removed) string { return fmt.Sprint(r.ID) }},
		{title: "kind", text: func(r contract.Removed) string { return r.Kind }},
		{title: "name", text: func(r contract.Removed) string { return r.Name }, tone: func(contract.Removed) tone { return strong }},
		{title: "site", text: func(r contract.Removed) string { return r.Site }},
		{title: "by", text: func(r contract.Removed) string { return r.Person }},
		{title: "removed", text: func(r contract.Removed) string { return stamp(r.At) }},
		{title: "for good", text: func(r contract.Removed) string { return stamp(r.Until) }},
	}
}

func removedCommand() *cobra.Command {
	return &cobra.Command{Use: "removed", Short: "List what was removed and can be brought back", Args: cobra.NoArgs,
		Example: "  inkpost removed\n  inkpost restore 12",
		RunE: with(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			list, err := c.Removed(cmd.Context())
			if err != nil {
				return err
			}
			return show(cmd, list, removedColumns()...)
		})}
}

func restoreCommand() *cobra.Command {
	var from, identity, passphrase string
	var into database
	one := with(func(cmd *cobra.Command, c *client.Client, args []string) error {
		id, err := strconv.ParseInt(args[0], 10, 64)
		if err != nil {
			return usagef("%q is not the number of a removal; inkpost removed lists them (to put a backup back: --from FILE)", args[0])
		}
		r, err := c.Restore(cmd.Context(), id)
		if err == nil {
			say(cmd, "%s %s is back.", strings.ToUpper(r.Kind[:1])+r.Kind[1:], r.Name)
		}
		return err
	})
	c := &cobra.Command{Use: "restore [REMOVAL]", Short: "Bring back what was removed, with its history; or a whole backup",
		Args: cobra.MaximumNArgs(1),
		Long: `Bring back what was removed, with its history: inkpost removed lists it. With --from, put a whole backup into
an empty database: sessions are ended, agents go on with their keys, and the serials of hosted zones go
ahead, so that secondaries take them.`,
		Example: "  inkpost restore 12\n  inkpost restore --from nightly.dump --database-url postgres://inkpost@127.0.0.1:5432/inkpost",
		RunE: func(cmd *cobra.Command, args []string) error {
			switch {
			case from != "" && len(args) == 0:
				return putBack(cmd, from, into, identity, passphrase)
			case from == "" && len(args) == 1:
				return one(cmd, args)
			}
			return usagef("give the number of a removal, or --from FILE")
		}}
	c.Flags().StringVar(&from, "from", "", "the backup to put back; - reads standard input")
	into.flags(c, "with --from: an empty PostgreSQL database")
	c.Flags().StringVar(&identity, "identity", "", "with --from: the file of the age key that opens the backup")
	c.Flags().StringVar(&passphrase, "passphrase-file", "", "with --from: the file whose first line is the passphrase of the backup")
	return c
}

// recordRemoval makes a remove command of what can be brought back; it is named by the last argument, its site by the one before.
func recordRemoval(use, short, kind string, args int, remove func(*cobra.Command, *client.Client, []string) error) *cobra.Command {
	return removal(use, short+"; it can be brought back for 30 days", args,
		func(cmd *cobra.Command, c *client.Client, args []string) (string, error) {
			if err := remove(cmd, c, args); err != nil {
				return "", err
			}
			name := args[len(args)-1]
			words := strings.ToUpper(kind[:1]) + kind[1:] + " " + name + " is removed."
			list, err := c.Removed(cmd.Context())
			i := slices.IndexFunc(list, func(r contract.Removed) bool {
				return r.Kind == kind && strings.EqualFold(r.Name, name) && (len(args) == 1 || strings.EqualFold(r.Site, args[0]))
			})
			if err == nil && i >= 0 {
				words += fmt.Sprintf(" Until %s it can be brought back: inkpost restore %d", list[i].Until.Local().Format("2 Jan 2006"),
					list[i].ID)
			}
			return words, nil
		})
}
