package cli

import (
	"strings"

	"github.com/spf13/cobra"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
)

// given collects the fields of the flags that were given, for an edit.
func given(cmd *cobra.Command, flags map[string]string) (client.Fields, error) {
	f, err := givenBut(cmd, flags)
	if err == nil && len(f) == 0 {
		return nil, usagef("nothing to change was given")
	}
	return f, err
}

// givenBut is given where other fields may be added.
func givenBut(cmd *cobra.Command, flags map[string]string) (client.Fields, error) {
	f := client.Fields{}
	for flag, field := range flags {
		if !cmd.Flags().Changed(flag) {
			continue
		}
		switch cmd.Flags().Lookup(flag).Value.Type() {
		case "bool":
			f[field], _ = cmd.Flags().GetBool(flag)
		case "int":
			f[field], _ = cmd.Flags().GetInt(flag)
		case "stringArray":
			f[field], _ = cmd.Flags().GetStringArray(flag)
		default:
			f[field], _ = cmd.Flags().GetString(flag)
		}
	}
	return f, nil
}

// with makes a command's work out of a function that needs the client.
func with(f func(*cobra.Command, *client.Client, []string) error) func(*cobra.Command, []string) error {
	return func(cmd *cobra.Command, args []string) error {
		c, err := connect(cmd)
		if err != nil {
			return err
		}
		if every, _ := cmd.Flags().GetDuration("watch"); cmd.Flags().Changed("watch") {
			return again(cmd, every, func() error { return f(cmd, c, args) })
		}
		return f(cmd, c, args)
	}
}

// removal makes a remove command.
func removal(use, short string, args int, remove func(*cobra.Command, *client.Client, []string) (string, error)) *cobra.Command {
	var yes bool
	c := &cobra.Command{Use: use, Short: short, Args: cobra.ExactArgs(args),
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			if err := sure(cmd, yes, args[len(args)-1]); err != nil {
				return err
			}
			words, err := remove(cmd, c, args)
			if err == nil {
				say(cmd, "%s", words)
			}
			return err
		})}
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return c
}

func siteColumns() []column[contract.SiteSummary] {
	return []column[contract.SiteSummary]{
		{title: "site", text: func(s contract.SiteSummary) string { return s.Code },
			tone: func(contract.SiteSummary) tone { return strong }},
		{title: "name", text: func(s contract.SiteSummary) string { return s.Name }},
		{title: "needs you", text: func(s contract.SiteSummary) string { return string(s.Need) },
			tone: func(s contract.SiteSummary) tone { return tones[s.Verdict] }},
		{title: "as expected", text: func(s contract.SiteSummary) string {
			return count(s.AsExpectedCount) + " of " +
				count(s.ServiceCount)
		}},
		{title: "address", text: func(s contract.SiteSummary) string { return orDash(s.Address) }},
		{title: "hostname", text: func(s contract.SiteSummary) string { return orDash(s.Hostname) }},
	}
}

func siteCommand() *cobra.Command {
	var in contract.SiteInput
	add := &cobra.Command{Use: "add CODE --name NAME", Short: "Put a customer's premises on record", Args: cobra.ExactArgs(1),
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			in.Code = args[0]
			s, err := c.AddSite(cmd.Context(), in)
			if err != nil {
				return err
			}
			say(cmd, "Site %s is on record. Next: inkpost link add %s main --provider PROVIDER", s.Code, s.Code)
			return nil
		})}
	edit := &cobra.Command{Use: "edit CODE", Short: "Change a site's code, name, note or tags", Args: cobra.ExactArgs(1),
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			f, err := given(cmd, map[string]string{"code": "code", "name": "name", "note": "note", "tag": "tags", "router": "router"})
			if err != nil {
				return err
			}
			s, err := c.EditSite(cmd.Context(), args[0], f)
			if err == nil {
				say(cmd, "Site %s is changed.", s.Code)
			}
			return err
		})}
	edit.Flags().String("code", "", "the new code")
	for _, c := range []*cobra.Command{add, edit} {
		c.Flags().StringVar(&in.Name, "name", "", "what the premises are called")
		c.Flags().StringVar(&in.Router, "router", "", "make of the router, and where it stands")
		c.Flags().StringVar(&in.Note, "note", "", "anything worth knowing at the next visit")
		c.Flags().StringArrayVar(&in.Tags, "tag", nil, "a tag, such as harbour; repeatable, and all of them at once (--tag \"\" for none)")
	}
	var q contract.SiteQuery
	var need string
	list := &cobra.Command{Use: "list [WORDS]", Short: "List sites, those in need first",
		Example: "  inkpost site list\n  inkpost site list slipway --tag north --need now\n  inkpost site list 02:00:5e:07",
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			q.Search, q.Need = strings.Join(args, " "), contract.Need(need)
			rows, total, err := c.SitesLike(cmd.Context(), q)
			if err != nil {
				return err
			}
			if err := show(cmd, rows, siteColumns()...); err != nil {
				return err
			}
			if format, _ := cmd.Flags().GetString("format"); format == "table" && total > len(rows) {
				say(cmd, "and %d more", total-len(rows))
			}
			return nil
		})}
	list.Flags().StringVar(&q.Tag, "tag", "", "only those with this tag")
	list.Flags().StringVar(&need, "need", "", "only those with this need: now, soon, unknown or nothing")
	list.Flags().StringVar(&q.Sort, "sort", "", "need, code, name or address (need)")
	list.Flags().IntVar(&q.Limit, "limit", 0, "list no more than so many")
	one := &cobra.Command{Use: "show CODE", Short: "Show everything on a site's record", Args: cobra.ExactArgs(1),
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			s, err := c.Site(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return showSite(cmd, s)
		})}
	return group("site", "Customers' premises", add, list, one, edit, reviewCommand(), reviewsCommand(),
		recordRemoval("remove CODE", "Remove a site with everything on its record", "site", 1,
			func(cmd *cobra.Command, c *client.Client, args []string) error {
				return c.RemoveSite(cmd.Context(), args[0])
			}))
}

// showSite prints a site: for people its parts one under the other, for machines its document.
func showSite(cmd *cobra.Command, s contract.Site) error {
	if format, _ := cmd.Flags().GetString("format"); format != "table" {
		if format == "csv" {
			return show(cmd, []contract.SiteSummary{s.SiteSummary}, siteColumns()...)
		}
		return showOne(cmd, s)
	}
	paint := painter(coloured(cmd))
	say(cmd, "%s  %s", paint(strong, s.Code), s.Name)
	if len(s.Tags) > 0 {
		say(cmd, "%s", paint(faded, "tagged "+strings.Join(s.Tags, ", ")))
	}
	if s.Note != "" {
		say(cmd, "%s", paint(faded, s.Note))
	}
	say(cmd, "\nLinks")
	if err := show(cmd, s.Links, linkColumns()...); err != nil {
		return err
	}
	say(cmd, "\nHostnames")
	if err := show(cmd, s.Hostnames, hostnameColumns()...); err != nil {
		return err
	}
	say(cmd, "\nDevices")
	if err := show(cmd, s.Devices, deviceColumns()...); err != nil {
		return err
	}
	say(cmd, "\nServices")
	if err := show(cmd, s.Services, serviceColumns()...); err != nil {
		return err
	}
	if len(s.Faults) > 0 {
		say(cmd, "\nOpen faults")
		printFaults(cmd, s.Faults)
	}
	return nil
}
