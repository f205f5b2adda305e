package command

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"inkpost.example/inkpost/internal/agent"
)

// Version of the program; the build sets it.
var Version = "development"

// Exit codes: done, failed, wrongly typed, and a key that is refused, after which a restart is useless.
const (
	exitDone = iota
	exitFailed
	exitUsage
	exitRevoked
)

// Program is the command line of the agent alone.
func Program() *cobra.Command {
	root := &cobra.Command{Use: "inkpost-agent", Short: "The Ink Post agent: announces a site's address", SilenceErrors: true,
		SilenceUsage: true, Version: Version,
		PersistentPreRunE: func(cmd *cobra.Command, _ []string) error { return FromEnvironment(cmd) }}
	root.PersistentFlags().String("server", "", "the server's address, such as http://127.0.0.1:8460")
	root.SetFlagErrorFunc(func(_ *cobra.Command, err error) error { return UsageError{err} })
	root.AddCommand(Run(Version), Status(), Install(Version))
	return root
}

// Main is the agent alone as a program.
func Main(ctx context.Context, args []string) int {
	root := Program()
	root.SetArgs(args)
	err := root.ExecuteContext(ctx)
	if err != nil {
		_, _ = fmt.Fprintln(root.ErrOrStderr(), "inkpost-agent:", err)
	}
	return ExitCode(err)
}

// ExitCode returns the exit code for an error of the agent's commands.
func ExitCode(err error) int {
	var usage UsageError
	switch {
	case err == nil:
		return exitDone
	case errors.As(err, &usage), strings.HasPrefix(err.Error(), "unknown command"):
		return exitUsage
	case errors.Is(err, agent.ErrRevoked):
		return exitRevoked
	}
	return exitFailed
}

// FromEnvironment takes flags that were not given from the environment: --log-level from INKPOST_LOG_LEVEL. Error: UsageError.
func FromEnvironment(cmd *cobra.Command) error {
	var failed error
	cmd.Flags().VisitAll(func(f *pflag.Flag) {
		name := "INKPOST_" + strings.ToUpper(strings.ReplaceAll(f.Name, "-", "_"))
		if v, there := os.LookupEnv(name); there && !f.Changed && failed == nil {
			if err := cmd.Flags().Set(f.Name, v); err != nil {
				failed = usagef("%s: %v", name, err)
			}
		}
	})
	return failed
}
