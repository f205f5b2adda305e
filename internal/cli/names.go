package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/names"
)

func hostnameColumns() []column[contract.Hostname] {
	return []column[contract.Hostname]{
		{title: "hostname", text: func(h contract.Hostname) string { return string(h.Name) }, tone: func(contract.Hostname) tone { return strong }},
		{title: "state", text: func(h contract.Hostname) string { return string(h.State) }, tone: func(h contract.Hostname) tone { return nameTone(h.State) }},
		{title: "site", text: func(h contract.Hostname) string { return h.Site }},
		{title: "follows", text: func(h contract.Hostname) string {
			if h.Link == "" {
				return "preferred link"
			}
			return "link " + h.Link
		}},
		{title: "ttl", text: func(h contract.Hostname) string { return fmt.Sprintf("%d s", h.TTL) }, machine: func(h contract.Hostname) string { return count(h.TTL) }},
		{title: "answers", text: func(h contract.Hostname) string { return orDash(h.Given) }},
		{title: "elsewhere", text: func(h contract.Hostname) string {
			var differ []string
			for _, r := range h.Resolvers {
				if r.Differs {
					differ = append(differ, r.Server+" gives "+r.Given)
				}
			}
			switch {
			case len(h.Resolvers) == 0:
				return "-"
			case len(differ) == 0:
				return "the same"
			}
			return strings.Join(differ, ", ")
		}},
	}
}

func hostnameCommand() *cobra.Command {
	var in contract.HostnameInput
	add := &cobra.Command{Use: "add NAME --site SITE", Short: "Put a name on record that follows a site's address", Args: cobra.ExactArgs(1),
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			in.Name = args[0]
			if in.Site == "" {
				return usagef("--site is needed")
			}
			h, err := c.AddHostname(cmd.Context(), in)
			if err == nil {
				say(cmd, "Hostname %s is on record in zone %s; it is %s.", h.Name, h.Zone, h.State)
			}
			return err
		})}
	add.Flags().StringVar(&in.Site, "site", "", "the site that it belongs to")
	edit := &cobra.Command{Use: "edit NAME", Short: "Change which link a hostname follows, or its TTL", Args: cobra.ExactArgs(1),
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			f, err := given(cmd, map[string]string{"link": "link", "ttl": "ttl_seconds", "extra": "extras", "mail": "mail"})
			if err != nil {
				return err
			}
			h, err := c.EditHostname(cmd.Context(), args[0], f)
			if err == nil {
				say(cmd, "Hostname %s is changed.", h.Name)
			}
			return err
		})}
	for _, c := range []*cobra.Command{add, edit} {
		c.Flags().StringVar(&in.Link, "link", "", "the link to follow (default: the site's preferred link)")
		c.Flags().StringArrayVar(&in.Extras, "extra", nil, "a label below the name with the same address: www, mail, or * for all others; give it again for each")
		c.Flags().StringVar(&in.Mail, "mail", "", "the host that takes the name's mail")
		c.Flags().IntVar(&in.TTL, "ttl", 0, "how many seconds a resolver may keep the answer (default: the zone's)")
	}
	var code string
	list := &cobra.Command{Use: "list", Short: "List hostnames", Args: cobra.NoArgs,
		RunE: with(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			rows, err := c.Hostnames(cmd.Context(), code)
			if err != nil {
				return err
			}
			return show(cmd, rows, hostnameColumns()...)
		})}
	list.Flags().StringVar(&code, "site", "", "only those of this site")
	one := &cobra.Command{Use: "show NAME", Short: "Show a hostname", Args: cobra.ExactArgs(1),
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			h, err := c.Hostname(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return showOne(cmd, h, hostnameColumns()...)
		})}
	return group("hostname", "Names that follow a site's address", add, list, one, edit,
		removal("remove NAME", "Remove a hostname", 1, func(cmd *cobra.Command, c *client.Client, args []string) (string, error) {
			return "Hostname " + args[0] + " is removed.", c.RemoveHostname(cmd.Context(), args[0])
		}))
}

func zoneColumns() []column[names.Zone] {
	return []column[names.Zone]{
		{title: "zone", text: func(z names.Zone) string { return string(z.Apex) }, tone: func(names.Zone) tone { return strong }},
		{title: "serial", text: func(z names.Zone) string { return fmt.Sprint(z.Serial) }},
		{title: "ttl", text: func(z names.Zone) string { return fmt.Sprintf("%d s", z.TTL) }, machine: func(z names.Zone) string { return fmt.Sprint(z.TTL) }},
		{title: "contact", text: func(z names.Zone) string { return string(z.Contact) }},
		{title: "servers", text: func(z names.Zone) string {
			var out []string
			for _, s := range z.Servers {
				out = append(out, string(s.Name))
			}
			return strings.Join(out, " ")
		}},
	}
}

func zoneCommand() *cobra.Command {
	var in contract.ZoneInput
	add := &cobra.Command{Use: "add APEX --server NAME=ADDRESS", Short: "Have Ink Post serve a DNS zone", Args: cobra.ExactArgs(1),
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			in.Apex = args[0]
			z, err := c.AddZone(cmd.Context(), in)
			if err == nil {
				say(cmd, "Zone %s is served with serial %d.", z.Apex, z.Serial)
			}
			return err
		})}
	edit := &cobra.Command{Use: "edit APEX", Short: "Change a zone's servers, contact or TTL", Args: cobra.ExactArgs(1),
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			f, err := given(cmd, map[string]string{"ns": "servers", "contact": "contact", "ttl": "ttl_seconds",
				"transfer-to": "transfer_to", "transfer-key": "transfer_key", "notify": "notify"})
			if err != nil {
				return err
			}
			z, err := c.EditZone(cmd.Context(), args[0], f)
			if err == nil {
				say(cmd, "Zone %s is served with serial %d.", z.Apex, z.Serial)
			}
			return err
		})}
	for _, c := range []*cobra.Command{add, edit} {
		c.Flags().StringArrayVar(&in.Servers, "ns", nil, "a name server, as NAME or NAME=ADDRESS; give it again for each")
		c.Flags().StringArrayVar(&in.TransferTo, "transfer-to", nil, "an address or prefix that may have the whole zone; give it again for each")
		c.Flags().StringVar(&in.TransferKey, "transfer-key", "", "the signing key whose holders may have the whole zone")
		c.Flags().StringArrayVar(&in.Notify, "notify", nil, "a secondary to tell of changes, ADDRESS or ADDRESS:PORT; give it again for each")
		c.Flags().StringVar(&in.Contact, "contact", "", "mail address of who answers for the zone")
		c.Flags().IntVar(&in.TTL, "ttl", 0, "seconds that resolvers may keep answers (30)")
	}
	add.Use = "add APEX --ns NAME=ADDRESS"
	list := &cobra.Command{Use: "list", Short: "List zones", Args: cobra.NoArgs,
		RunE: with(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			rows, err := c.Zones(cmd.Context())
			if err != nil {
				return err
			}
			return show(cmd, rows, zoneColumns()...)
		})}
	one := &cobra.Command{Use: "show APEX", Short: "Show a zone", Args: cobra.ExactArgs(1),
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			z, err := c.Zone(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return showOne(cmd, z, zoneColumns()...)
		})}
	return group("zone", "DNS zones that hostnames live in", add, list, one, edit,
		removal("remove APEX", "Remove a zone in which no hostname lives", 1, func(cmd *cobra.Command, c *client.Client, args []string) (string, error) {
			return "Zone " + args[0] + " is removed.", c.RemoveZone(cmd.Context(), args[0])
		}))
}
