package cli

import (
	"time"

	"github.com/spf13/cobra"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
)

func linkColumns() []column[contract.Link] {
	return []column[contract.Link]{
		{title: "link", text: func(l contract.Link) string { return l.Label }, tone: func(contract.Link) tone { return strong }},
		{title: "provider", text: func(l contract.Link) string { return orDash(l.Provider) }},
		{title: "mode", text: func(l contract.Link) string { return string(l.Mode) }},
		{title: "order", text: func(l contract.Link) string { return count(l.Position) }},
		{title: "address", text: func(l contract.Link) string { return l.Addresses().String() }},
		{title: "NAT", text: func(l contract.Link) string {
			if l.Report == nil {
				return "-"
			}
			return string(l.Report.NAT)
		}, tone: func(l contract.Link) tone {
			if l.Report != nil && (l.Report.NAT == "double" || l.Report.NAT == "carrier") {
				return unsettled
			}
			return plain
		}},
		{title: "since", text: func(l contract.Link) string { return ago(l.Since) },
			machine: func(l contract.Link) string { return stamp(l.Since) }},
		{title: "source", text: func(l contract.Link) string { return orDash(string(l.Source)) }},
		{title: "heard", text: func(l contract.Link) string {
			switch {
			case !l.Agent:
				return "no agent"
			case l.Overdue:
				return ago(l.Heard) + ", overdue"
			}
			return ago(l.Heard)
		}, machine: func(l contract.Link) string { return stamp(l.Heard) }, tone: func(l contract.Link) tone {
			if l.Overdue {
				return wrong
			}
			return plain
		}},
	}
}

func linkCommand() *cobra.Command {
	var in contract.LinkInput
	add := &cobra.Command{Use: "add SITE LABEL", Short: "Put an internet connection of a site on record", Args: cobra.ExactArgs(2),
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			in.Label = args[1]
			l, err := c.AddLink(cmd.Context(), args[0], in)
			if err != nil {
				return err
			}
			say(cmd, "Link %s of %s is on record.", l.Label, args[0])
			if l.Mode == "dynamic" {
				say(cmd, "Next, for its agent: inkpost agent invite %s %s", args[0], l.Label)
			}
			return nil
		})}
	edit := &cobra.Command{Use: "edit SITE LABEL", Short: "Change a link", Args: cobra.ExactArgs(2),
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			f, err := given(cmd, map[string]string{"label": "label", "provider": "provider", "contract": "contract", "mode": "mode",
				"order": "position",
				"ipv4":  "ipv4", "ipv6": "ipv6",
				"router-address": "router_address", "dynamic-range": "dynamic_range", "source": "sources", "may-map": "may_map"})
			if err != nil {
				return err
			}
			l, err := c.EditLink(cmd.Context(), args[0], args[1], f)
			if err == nil {
				say(cmd, "Link %s of %s is changed.", l.Label, args[0])
			}
			return err
		})}
	edit.Flags().String("label", "", "the new label")
	for _, c := range []*cobra.Command{add, edit} {
		c.Flags().StringVar(&in.Contract, "contract", "", "number that the provider knows the line by")
		c.Flags().StringVar(&in.Provider, "provider", "", "who provides it")
		c.Flags().StringVar(&in.Mode, "mode", "", "dynamic (an agent announces its address) or static (you give it)")
		c.Flags().IntVar(&in.Position, "order", 0, "order of preference among the site's links, 1 first")
		c.Flags().StringVar(&in.IPv4, "ipv4", "", "the IPv4 address of a static link")
		c.Flags().StringVar(&in.IPv6, "ipv6", "", "the IPv6 address of a static link")
		c.Flags().StringVar(&in.RouterWAN, "router-address", "",
			"the router's WAN address as its status page shows it, if no protocol reports it")
		c.Flags().StringVar(&in.Dynamic, "dynamic-range", "",
			"the LAN addresses that the router gives out, such as 192.168.7.100-192.168.7.199")
		c.Flags().BoolVar(&in.MayMap, "may-map", false,
			"let the agent ask the router for a mapping for a moment, to see where what is sent to a failing port gets lost")
		c.Flags().StringArrayVar(&in.Sources, "source", nil,
			"a source of the address, the most trusted first: observed, stun, gateway, interface or fixed; give it again for each")
	}
	plan := &cobra.Command{Use: "plan SITE LABEL TIME",
		Short: "Say when the provider will change the address, so that TTLs are low by then", Args: cobra.ExactArgs(3),
		Long: `Say when the provider will change a link's address. The TTLs of the hostnames that follow it are lowered
ahead of it and restored after it. TIME is 2026-11-24T02:00:00Z, 6h for so long from now, or never.`,
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			at, err := time.Parse(time.RFC3339, args[2])
			if ahead, e := time.ParseDuration(args[2]); e == nil && ahead > 0 {
				at, err = time.Now().Add(ahead).Truncate(time.Second), nil
			}
			if args[2] == "never" {
				at, err = time.Time{}, nil
			}
			if err != nil {
				return usagef("%q is not a time; write 2026-11-24T02:00:00Z, 6h for so long from now, or never", args[2])
			}
			l, err := c.EditLink(cmd.Context(), args[0], args[1], client.Fields{"change_at": at})
			switch {
			case err != nil:
			case l.ChangeAt.IsZero():
				say(cmd, "No change of link %s of %s is planned.", l.Label, args[0])
			default:
				say(cmd, "Link %s of %s is expected to change at %s. Its hostnames' TTLs are lowered ahead of that.", l.Label,
					args[0], l.ChangeAt.Local().Format(time.RFC3339))
			}
			return err
		})}
	list := &cobra.Command{Use: "list SITE", Short: "List a site's links by preference", Args: cobra.ExactArgs(1),
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			rows, err := c.Links(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return show(cmd, rows, linkColumns()...)
		})}
	one := &cobra.Command{Use: "show SITE LABEL", Short: "Show a link", Args: cobra.ExactArgs(2),
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			l, err := c.Link(cmd.Context(), args[0], args[1])
			if err != nil {
				return err
			}
			return showOne(cmd, l, append(linkColumns(), reportColumns(l)...)...)
		})}
	return group("link", "Internet connections of sites", add, list, one, edit, plan,
		recordRemoval("remove SITE LABEL", "Remove a link", "link", 2, func(cmd *cobra.Command, c *client.Client, args []string) error {
			return c.RemoveLink(cmd.Context(), args[0], args[1])
		}))
}
