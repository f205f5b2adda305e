package cli

import (
	"errors"

	"github.com/spf13/cobra"

	"inkpost.example/inkpost/internal/daemon"
)

var errContradicts = errors.New("the record contradicts itself; see above")

// contradiction is a row of the list.
type contradiction struct {
	Where string `json:"where"`
	What  string `json:"what"`
}

func consistencyCommand() *cobra.Command {
	var of database
	c := &cobra.Command{Use: "consistency", Short: "Look whether what a database has on record contradicts itself", Args: cobra.NoArgs,
		Long: `Look for what cannot be so: spans of the history that overlap, moves that do not begin where the one before
ended, links that are elsewhere than their newest move went, faults that are open twice, notices that were
sent twice. The database may be in use: it is read only.

Exit code 0: nothing is found. 1: something is.`,
		Example: "  inkpost consistency --database-url postgres://inkpost@127.0.0.1:5432/inkpost\n" +
			"  inkpost consistency --config /etc/inkpost/serve.yaml --format json",
		RunE: func(cmd *cobra.Command, _ []string) error {
			url, err := of.needed("")
			if err != nil {
				return err
			}
			found, kinds, err := daemon.Contradictions(cmd.Context(), url)
			if err != nil {
				return err
			}
			rows := make([]contradiction, len(found))
			for i, one := range found {
				rows[i] = contradiction(one)
			}
			if format, _ := cmd.Flags().GetString("format"); format == "table" && len(rows) == 0 {
				say(cmd, "Nothing contradicts itself: %d kinds of contradictions were looked for.", kinds)
				return nil
			}
			if err := show(cmd, rows,
				column[contradiction]{title: "where", text: func(c contradiction) string { return c.Where }},
				column[contradiction]{title: "what", text: func(c contradiction) string { return c.What }}); err != nil {
				return err
			}
			if len(rows) > 0 {
				return errContradicts
			}
			return nil
		}}
	of.flags(c, "the PostgreSQL database to look at")
	return c
}
