package cli

import (
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/cobra/doc"

	"inkpost.example/inkpost/internal/agent/command"
)

// manualCommand writes the pages that man shows, from the help of the commands.
func manualCommand() *cobra.Command {
	var dir string
	var alone bool
	c := &cobra.Command{Use: "manual", Short: "Write the manual pages of all commands", Args: cobra.NoArgs,
		Long: `Write the manual pages of all commands into a folder, for man:

  inkpost manual --dir /usr/local/share/man/man1

The completion of a shell is written by: inkpost completion bash|zsh|fish|powershell.

Exit codes: 0 done, 1 it failed, 2 the command line is wrong.`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if dir == "" {
				return usagef("--dir is required")
			}
			if err := os.MkdirAll(dir, 0o755); err != nil {
				return err
			}
			date := time.Date(2026, 11, 1, 0, 0, 0, 0, time.UTC)
			root := cmd.Root()
			if alone {
				root = command.Program()
			}
			root.DisableAutoGenTag = true
			if err := doc.GenManTree(root, &doc.GenManHeader{Title: strings.ToUpper(root.Name()), Section: "1",
				Source: "Ink Post " + Version, Date: &date},
				dir); err != nil {
				return err
			}
			say(cmd, "The manual pages are in %s.", dir)
			return nil
		}}
	c.Flags().StringVar(&dir, "dir", "", "where to write them")
	c.Flags().BoolVar(&alone, "agent", false, "those of inkpost-agent, the program that is the agent alone")
	return c
}
