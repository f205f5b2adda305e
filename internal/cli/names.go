package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
)

func hostnameColumns() []column[contract.Hostname] {
	return []column[contract.Hostname]{
		{title: "hostname", text: func(h contract.Hostname) string { return readable(string(h.Name), h.Shown) },
			machine: func(h contract.Hostname) string { return string(h.Name) }, tone: func(contract.Hostname) tone { return strong }},
		{title: "state", text: func(h contract.Hostname) string { return string(h.State) },
			tone: func(h contract.Hostname) tone { return tones[h.Verdict] }},
		{title: "site", text: func(h contract.Hostname) string { return h.Site }},
		{title: "follows", text: func(h contract.Hostname) string {
			if h.HoldAt != "" {
				return "held by an " + string(h.HoldBy)
			}
			if h.Link == "" {
				return "preferred link"
			}
			return "link " + h.Link
		}},
		{title: "ttl", text: func(h contract.Hostname) string { return fmt.Sprintf("%d s", h.TTL) },
			machine: func(h contract.Hostname) string { return count(h.TTL) }},
		{title: "answers", text: func(h contract.Hostname) string { return orDash(h.Given) }},
		{title: "elsewhere", text: func(h contract.Hostname) string {
			var differ []string
			for _, r := range h.Resolvers {
				if r.Differs {
					differ = append(differ, r.Server+" gives "+r.Given)
				}
			}
			switch {
			case h.Held != "":
				return h.Held
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
	add := &cobra.Command{Use: "add NAME --site SITE", Short: "Put a name on record that follows a site's address",
		Args: cobra.ExactArgs(1),
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			in.Name = args[0]
			if in.Site == "" {
				return usagef("--site is required")
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
			f, err := given(cmd, map[string]string{"link": "link", "ttl": "ttl_seconds", "extra": "extras", "mail": "mail",
				"device": "device"})
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
		c.Flags().StringArrayVar(&in.Extras, "extra", nil,
			"a label below the name with the same address: www, mail, or * for all others; give it again for each")
		c.Flags().StringVar(&in.Device, "device", "", "the device whose own IPv6 address is the name's AAAA, as an agent sees it")
		c.Flags().StringVar(&in.Mail, "mail", "", "the host that takes the name's mail")
		c.Flags().IntVar(&in.TTL, "ttl", 0, "how many seconds a resolver may keep the answer (default: the zone's)")
	}
	var q contract.HostnameQuery
	list := &cobra.Command{Use: "list [WORDS]", Short: "List hostnames, or those that have some words", Args: cobra.ArbitraryArgs,
		Example: "  inkpost hostname list\n  inkpost hostname list 203.0.113.7 --zone isles.saltmarsh.example",
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			q.Search = strings.Join(args, " ")
			rows, _, err := c.HostnamesLike(cmd.Context(), q)
			if err != nil {
				return err
			}
			return show(cmd, rows, hostnameColumns()...)
		})}
	list.Flags().StringVar(&q.Site, "site", "", "only those of this site")
	list.Flags().StringVar(&q.Zone, "zone", "", "only those in this zone")
	list.Flags().IntVar(&q.Limit, "limit", 0, "at most so many (default: all)")
	one := &cobra.Command{Use: "show NAME", Short: "Show a hostname", Args: cobra.ExactArgs(1),
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			h, err := c.Hostname(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return showOne(cmd, h, hostnameColumns()...)
		})}
	check := &cobra.Command{Use: "check NAME", Short: "Check whether a name is legal and free, in any script", Args: cobra.ExactArgs(1),
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			return checked(cmd, func() (contract.NameCheck, error) { return c.CheckName(cmd.Context(), args[0]) })
		})}
	var zone string
	suggest := &cobra.Command{Use: "suggest SITE", Short: "Make a first name for a site by the zone's template", Args: cobra.ExactArgs(1),
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			return checked(cmd, func() (contract.NameCheck, error) { return c.SuggestName(cmd.Context(), args[0], zone) })
		})}
	suggest.Flags().StringVar(&zone, "zone", "", "in this zone (default: the first with a template)")
	hold := &cobra.Command{Use: "hold NAME", Short: "Hold a hostname at the address it has, whatever its link does",
		Args: cobra.ExactArgs(1),
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			h, err := c.HoldHostname(cmd.Context(), args[0])
			if err == nil {
				say(cmd, "Hostname %s stays at %s. Let it follow again: inkpost hostname release %s", h.Name, h.HoldAt, h.Name)
			}
			return err
		})}
	release := &cobra.Command{Use: "release NAME", Short: "Let a hostname that is held follow its link again", Args: cobra.ExactArgs(1),
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			h, err := c.ReleaseHostname(cmd.Context(), args[0])
			if err == nil {
				say(cmd, "Hostname %s follows its link.", h.Name)
			}
			return err
		})}
	return group("hostname", "Names that follow a site's address", add, list, one, edit, check, suggest, hold, release,
		recordRemoval("remove NAME", "Remove a hostname", "hostname", 1, func(cmd *cobra.Command, c *client.Client, args []string) error {
			return c.RemoveHostname(cmd.Context(), args[0])
		}))
}

// readable is a name as a person reads it, with its ASCII form beside it where the two differ.
func readable(name, shown string) string {
	if shown == "" || shown == name {
		return name
	}
	return shown + " (" + name + ")"
}

// checked prints what was found out about a name. A name that cannot be taken ends with exit code 1.
func checked(cmd *cobra.Command, ask func() (contract.NameCheck, error)) error {
	check, err := ask()
	if err != nil {
		return err
	}
	if format, _ := cmd.Flags().GetString("format"); format != "table" {
		return showOne(cmd, check,
			column[contract.NameCheck]{title: "name", text: func(c contract.NameCheck) string { return c.Name }},
			column[contract.NameCheck]{title: "legal", text: func(c contract.NameCheck) string { return fmt.Sprint(c.Legal) }},
			column[contract.NameCheck]{title: "free", text: func(c contract.NameCheck) string { return fmt.Sprint(c.Free) }},
			column[contract.NameCheck]{title: "detail", text: func(c contract.NameCheck) string { return c.Detail }})
	}
	if !check.Free {
		return fmt.Errorf("%s", check.Detail)
	}
	paint := painter(coloured(cmd))
	say(cmd, "%s", paint(strong, readable(check.Name, check.Shown)))
	say(cmd, "  %s", check.Detail)
	return nil
}
