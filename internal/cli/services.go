package cli

import (
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/ledger"
	"inkpost.example/inkpost/internal/core/site"
)

func serviceColumns() []column[contract.Service] {
	return []column[contract.Service]{
		{title: "service", text: func(s contract.Service) string { return s.Name }, tone: func(contract.Service) tone { return strong }},
		{title: "state", text: func(s contract.Service) string { return string(s.State) }, tone: func(s contract.Service) tone { return stateTone(s.AsExpected, s.State) }},
		{title: "outcome", text: func(s contract.Service) string { return orDash(string(s.Outcome)) }},
		{title: "probed", text: func(s contract.Service) string { return ago(s.Probed) }, machine: func(s contract.Service) string { return stamp(s.Probed) }},
		{title: "external", text: func(s contract.Service) string {
			return string(s.Transport) + " " + site.Ports(s.ExternalFrom, s.ExternalTo)
		}},
		{title: "device", text: func(s contract.Service) string { return fmt.Sprintf("%s port %d", s.Device, s.InternalFrom) }},
		{title: "expected", text: func(s contract.Service) string { return string(s.Expected) }},
		{title: "every", text: func(s contract.Service) string { return fmt.Sprintf("%d s", s.Interval) }, machine: func(s contract.Service) string { return count(s.Interval) }},
	}
}

func serviceCommand() *cobra.Command {
	var in contract.ServiceInput
	add := &cobra.Command{Use: "add SITE NAME --device DEVICE --external PORT", Short: "Put one exposed port, or range, on record", Args: cobra.ExactArgs(2),
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			in.Name = args[1]
			s, err := c.AddService(cmd.Context(), args[0], in)
			if err == nil {
				say(cmd, "Service %s of %s is on record. In the router, forward %s %s to device %s, port %d.", s.Name, args[0], s.Transport,
					site.Ports(s.ExternalFrom, s.ExternalTo), s.Device, s.InternalFrom)
			}
			return err
		})}
	edit := &cobra.Command{Use: "edit SITE NAME", Short: "Change a service", Args: cobra.ExactArgs(2),
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			f, err := given(cmd, map[string]string{"name": "name", "device": "device", "link": "link", "kind": "kind", "transport": "transport",
				"external": "external", "internal": "internal", "expected": "expected", "every": "interval_seconds"})
			if err != nil {
				return err
			}
			s, err := c.EditService(cmd.Context(), args[0], args[1], f)
			if err == nil {
				say(cmd, "Service %s of %s is changed.", s.Name, args[0])
			}
			return err
		})}
	edit.Flags().String("name", "", "the new name")
	for _, c := range []*cobra.Command{add, edit} {
		c.Flags().StringVar(&in.Device, "device", "", "the device that it runs on")
		c.Flags().StringVar(&in.Link, "link", "", "the link that it is reached by (default: the site's preferred link)")
		c.Flags().StringVar(&in.External, "external", "", "the port, or range of ports, on the public address")
		c.Flags().StringVar(&in.Internal, "internal", "", "the first port on the device (default: the same as outside)")
		c.Flags().StringVar(&in.Kind, "kind", "", "what it speaks (tcp)")
		c.Flags().StringVar(&in.Transport, "transport", "", "what carries it (tcp)")
		c.Flags().StringVar(&in.Expected, "expected", "", "reachable, or closed for what must not be open")
		c.Flags().IntVar(&in.Interval, "every", 0, "seconds between probes, 5 to 86400 (60)")
	}
	list := &cobra.Command{Use: "list SITE", Short: "List a site's services", Args: cobra.ExactArgs(1),
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			rows, err := c.Services(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return show(cmd, rows, serviceColumns()...)
		})}
	one := &cobra.Command{Use: "show SITE NAME", Short: "Show a service", Args: cobra.ExactArgs(2),
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			s, err := c.Service(cmd.Context(), args[0], args[1])
			if err != nil {
				return err
			}
			return showOne(cmd, s, serviceColumns()...)
		})}
	return group("service", "Exposed ports, each on a device", add, list, one, edit, historyCommand(),
		removal("remove SITE NAME", "Remove a service", 2, func(cmd *cobra.Command, c *client.Client, args []string) (string, error) {
			return "Service " + args[1] + " of " + args[0] + " is removed.", c.RemoveService(cmd.Context(), args[0], args[1])
		}))
}

func historyCommand() *cobra.Command {
	var back time.Duration
	c := &cobra.Command{Use: "history SITE NAME", Short: "List the spans of equal outcomes of a service", Args: cobra.ExactArgs(2),
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			if back < time.Minute {
				return usagef("--back %s is too short; a minute at least", back)
			}
			h, err := c.History(cmd.Context(), args[0], args[1], time.Now().Add(-back), time.Time{})
			if err != nil {
				return err
			}
			return show(cmd, h.Spans,
				column[ledger.Span]{title: "from", text: func(s ledger.Span) string { return s.From.Local().Format("2006-01-02 15:04:05") }, machine: func(s ledger.Span) string { return stamp(s.From) }},
				column[ledger.Span]{title: "until", text: func(s ledger.Span) string { return s.Until.Local().Format("2006-01-02 15:04:05") }, machine: func(s ledger.Span) string { return stamp(s.Until) }},
				column[ledger.Span]{title: "lasted", text: func(s ledger.Span) string { return length(s.Until.Sub(s.From)) }, machine: func(s ledger.Span) string { return fmt.Sprintf("%.3f", s.Until.Sub(s.From).Seconds()) }},
				column[ledger.Span]{title: "outcome", text: func(s ledger.Span) string { return string(s.Outcome) }, tone: func(s ledger.Span) tone {
					if s.Outcome.Good() {
						return proven
					}
					return wrong
				}},
				column[ledger.Span]{title: "probes", text: func(s ledger.Span) string { return fmt.Sprint(s.Count) }},
				column[ledger.Span]{title: "fastest", text: func(s ledger.Span) string { return micros(s.Fastest) }, machine: func(s ledger.Span) string { return fmt.Sprint(s.Fastest) }},
				column[ledger.Span]{title: "slowest", text: func(s ledger.Span) string { return micros(s.Slowest) }, machine: func(s ledger.Span) string { return fmt.Sprint(s.Slowest) }},
				column[ledger.Span]{title: "from vantage", text: func(s ledger.Span) string { return s.Vantage }})
		})}
	c.Flags().DurationVar(&back, "back", 24*time.Hour, "how far back, such as 2h or 720h")
	return c
}

func micros(us int64) string {
	if us == 0 {
		return "-"
	}
	return length(time.Duration(us) * time.Microsecond)
}
