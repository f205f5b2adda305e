package cli

import (
	"fmt"
	"slices"
	"time"

	"github.com/spf13/cobra"
)

// shownAgain are the commands that only show something: --watch is for those.
var shownAgain = []string{"list", "show", "overview", "why", "moves", "removed", "availability", "history", "times", "log", "pushes"}

// shortestWatch is how often a list is shown again at most.
const shortestWatch = time.Second

// again shows what a command shows over and over, until Ctrl-C: on a terminal in one place, else one below the other. A server that does
// not answer for a while ends nothing.
func again(cmd *cobra.Command, every time.Duration, once func() error) error {
	if !slices.Contains(shownAgain, cmd.Name()) {
		return usagef("--watch shows a list again and again; %s is none", cmd.CommandPath())
	}
	if every < shortestWatch {
		return usagef("--watch is %s or longer", shortestWatch)
	}
	ctx, stop := interrupted(cmd)
	defer stop()
	cmd.SetContext(ctx)
	format, _ := cmd.Flags().GetString("format")
	for {
		if terminalWidth(cmd) > 0 {
			_, _ = fmt.Fprint(cmd.OutOrStdout(), "\x1b[H\x1b[2J") // to the top left, of an empty screen
		}
		if format == "table" {
			say(cmd, "%s, every %s\n", time.Now().Format("15:04:05"), every)
		}
		if err := once(); err != nil && ctx.Err() == nil {
			_, _ = fmt.Fprintln(cmd.ErrOrStderr(), err)
		}
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(every):
		}
	}
}
