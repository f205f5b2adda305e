package cli

import (
	"fmt"
	"log/slog"
	"net/netip"
	"os/signal"
	"syscall"

	"github.com/spf13/cobra"

	"inkpost.example/inkpost/internal/agent/command"
	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/vantage"
)

func vantageColumns() []column[contract.Vantage] {
	return []column[contract.Vantage]{
		{title: "vantage point", text: func(v contract.Vantage) string { return v.Name },
			tone: func(contract.Vantage) tone { return strong }},
		{title: "state", text: func(v contract.Vantage) string { return v.State },
			tone: func(v contract.Vantage) tone { return tones[v.Verdict] }},
		{title: "services", text: func(v contract.Vantage) string { return fmt.Sprint(v.Services) }},
		{title: "heard", text: func(v contract.Vantage) string {
			if v.Own {
				return "this server"
			}
			return ago(v.Heard)
		}, machine: func(v contract.Vantage) string { return stamp(v.Heard) }},
		{title: "seen at", text: func(v contract.Vantage) string { return orDash(v.Observed) }},
		{title: "note", text: func(v contract.Vantage) string { return orDash(v.Note) }},
		{title: "problem", text: func(v contract.Vantage) string { return orDash(v.Problem) }},
	}
}

func vantageCommand() *cobra.Command {
	var note string
	invite := &cobra.Command{Use: "invite NAME", Short: "Make a one-time code for a vantage point", Args: cobra.ExactArgs(1),
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			inv, err := c.InviteVantage(cmd.Context(), contract.VantageInput{Name: args[0], Note: note})
			if err != nil {
				return err
			}
			if format, _ := cmd.Flags().GetString("format"); format != "table" {
				return showOne(cmd, inv, column[contract.VantageInvitation]{title: "code",
					text: func(i contract.VantageInvitation) string { return i.Code }})
			}
			say(cmd, "One-time code for vantage point %s, valid for a day: %s", inv.Vantage, inv.Code)
			say(cmd, "There: inkpost vantage run --server %s --code %s", reachedAt(cmd, c, inv.Server), inv.Code)
			return nil
		})}
	invite.Flags().StringVar(&note, "note", "", "where it stands")
	list := &cobra.Command{Use: "list", Short: "List the vantage points", Args: cobra.NoArgs,
		RunE: with(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			rows, err := c.Vantages(cmd.Context())
			if err != nil {
				return err
			}
			return show(cmd, rows, vantageColumns()...)
		})}
	return group("vantage", "Places outside every site from which services are probed", invite, list, vantageRunCommand(),
		removal("remove NAME", "Remove a vantage point; its key stops working at once", 1,
			func(cmd *cobra.Command, c *client.Client, args []string) (string, error) {
				return "Vantage point " + args[0] + " is removed.", c.RemoveVantage(cmd.Context(), args[0])
			}))
}

func vantageRunCommand() *cobra.Command {
	var o vantage.Options
	var from, level string
	c := &cobra.Command{Use: "run", Short: "Look at sites from this machine", Args: cobra.NoArgs,
		Long: `Look at sites from this machine, which has to stand outside all of them. The first time it needs
--server and the one-time --code that inkpost vantage invite prints; it keeps its key, and what it
could not return yet, in --state. It looks at itself first: give a --reference or two that answer as
long as this machine's own way out works.`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			ctx, stop := signal.NotifyContext(cmd.Context(), syscall.SIGINT, syscall.SIGTERM)
			defer stop()
			o.Server, _ = cmd.Flags().GetString("server")
			o.Version = Version
			if from != "" {
				a, err := netip.ParseAddr(from)
				if err != nil {
					return usagef("--from %q is not an address of this machine", from)
				}
				o.From = a
			}
			for _, r := range o.References {
				if _, err := netip.ParseAddrPort(r); err != nil {
					return usagef("--reference %q is not ADDRESS:PORT", r)
				}
			}
			var l slog.Level
			if err := l.UnmarshalText([]byte(level)); err != nil {
				return usagef("--log-level %q is unknown; it is debug, info, warn or error", level)
			}
			o.Log = slog.New(slog.NewTextHandler(cmd.ErrOrStderr(), &slog.HandlerOptions{Level: l}))
			return vantage.Run(ctx, o)
		}}
	f := c.Flags()
	f.StringVar(&o.Code, "code", "", "the one-time code that inkpost vantage invite prints; needed once")
	f.StringVar(&o.StateDir, "state", command.DefaultState()+"-vantage", "where the vantage point keeps its key")
	f.StringVar(&from, "from", "", "the local address to probe from (default: the system's choice)")
	f.StringArrayVar(&o.References, "reference", nil,
		"ADDRESS:PORT (TCP) that answers as long as this machine's way out works; give it again for each")
	f.StringVar(&level, "log-level", "info", "debug, info, warn or error")
	return c
}
