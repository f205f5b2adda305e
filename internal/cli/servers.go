package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
)

func serverColumns() []column[contract.Server] {
	return []column[contract.Server]{
		{title: "server", text: func(s contract.Server) string { return s.Name }, tone: func(contract.Server) tone { return strong }},
		{title: "role", text: func(s contract.Server) string {
			if s.Writes {
				return "writes"
			}
			return "stands by"
		}},
		{title: "since", text: func(s contract.Server) string { return ago(s.Since) }, machine: func(s contract.Server) string {
			return stamp(s.Since)
		}},
		{title: "heard", text: func(s contract.Server) string {
			if s.Writes {
				return "it says this"
			}
			return ago(s.Heard)
		}, machine: func(s contract.Server) string { return stamp(s.Heard) }},
		{title: "probes", text: func(s contract.Server) string { return fmt.Sprintf("%d of %d shards", s.Shards, s.Of) },
			machine: func(s contract.Server) string { return fmt.Sprint(s.Shards) }},
		{title: "rounds", text: func(s contract.Server) string { return fmt.Sprint(s.Rounds) }},
	}
}

func serversCommand() *cobra.Command {
	return &cobra.Command{Use: "servers", Short: "List the servers on the database, and how many shards of the services each probes",
		Args: cobra.NoArgs, RunE: with(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			rows, err := c.Servers(cmd.Context())
			if err != nil {
				return err
			}
			return show(cmd, rows, serverColumns()...)
		})}
}
