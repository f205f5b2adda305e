package cli

import (
	"encoding/json"
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/pace"
	"inkpost.example/inkpost/internal/core/team"
)

func personCommand() *cobra.Command {
	list := &cobra.Command{Use: "list", Short: "List people and what they may do", Args: cobra.NoArgs,
		RunE: with(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			rows, err := c.People(cmd.Context())
			if err != nil {
				return err
			}
			return show(cmd, rows, personColumns()...)
		})}
	var in contract.PersonInvitationInput
	var role string
	invite := &cobra.Command{Use: "invite NAME", Short: "Invite somebody, by a link that works once", Args: cobra.ExactArgs(1),
		Long: `Invite somebody. The link that is printed works once, within a week: whoever opens it chooses a
password and becomes part of the team. An owner may do everything; a technician everything but
what acts on the whole installation; a viewer only reads. With --tag, they see the sites with one
of these tags, and nothing of any other.`,
		Example: `  inkpost person invite dispatch --role technician --tag north
  inkpost person invite museum --role viewer --tag museum`,
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			in.Name, in.Role = args[0], team.Role(role)
			inv, err := c.InvitePerson(cmd.Context(), in)
			if err != nil {
				return err
			}
			return showOne(cmd, inv,
				column[contract.PersonInvitation]{title: "for", text: func(i contract.PersonInvitation) string {
					return fmt.Sprintf("%s, %s of %s", i.Name, i.Role, team.Sight(i.Tags).Words())
				}},
				column[contract.PersonInvitation]{title: "link", tone: func(contract.PersonInvitation) tone { return strong },
					text: func(i contract.PersonInvitation) string {
						if strings.HasPrefix(i.URL, "/") {
							return reachedAt(cmd, c, "") + i.URL
						}
						return i.URL
					}},
				column[contract.PersonInvitation]{title: "until", text: func(i contract.PersonInvitation) string {
					return stamp(i.Expires)
				}})
		})}
	invite.Flags().StringVar(&role, "role", string(team.Technician), "owner, technician or viewer")
	invite.Flags().StringSliceVar(&in.Tags, "tag", nil, "a tag of the sites that they see; all sites if left out")
	var tags []string
	var all bool
	edit := &cobra.Command{Use: "edit NAME", Short: "Change what somebody may do, at once", Args: cobra.ExactArgs(1),
		Example: `  inkpost person edit dispatch --role viewer
  inkpost person edit dispatch --tag north --tag quay
  inkpost person edit dispatch --all-sites`,
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			var change contract.PersonEdit
			if cmd.Flags().Changed("role") {
				r := team.Role(role)
				change.Role = &r
			}
			switch {
			case all && len(tags) > 0:
				return usagef("--tag and --all-sites exclude each other")
			case all:
				change.Tags = &[]string{}
			case len(tags) > 0:
				change.Tags = &tags
			case change.Role == nil:
				return usagef("say what changes: --role, --tag or --all-sites")
			}
			p, err := c.EditPerson(cmd.Context(), args[0], change)
			if err == nil {
				say(cmd, "%s is %s of %s.", p.Name, p.Role, team.Sight(p.Tags).Words())
			}
			return err
		})}
	edit.Flags().StringVar(&role, "role", "", "owner, technician or viewer")
	edit.Flags().StringSliceVar(&tags, "tag", nil, "a tag of the sites that they see from now on")
	edit.Flags().BoolVar(&all, "all-sites", false, "they see all sites from now on")
	remove := removal("remove NAME", "Remove somebody with their sessions, keys and rules", 1,
		func(cmd *cobra.Command, c *client.Client, args []string) (string, error) {
			return args[0] + " is removed, and signed out everywhere.", c.RemovePerson(cmd.Context(), args[0])
		})
	return group("person", "People, and what they may do", list, invite, edit, remove, invitationsCommand(), uninviteCommand())
}

func personColumns() []column[contract.Person] {
	return []column[contract.Person]{
		{title: "name", text: func(p contract.Person) string { return p.Name }, tone: func(contract.Person) tone { return strong }},
		{title: "role", text: func(p contract.Person) string { return string(p.Role) }},
		{title: "sees", text: func(p contract.Person) string { return team.Sight(p.Tags).Words() },
			machine: func(p contract.Person) string { return strings.Join(p.Tags, " ") }},
		{title: "since", text: func(p contract.Person) string { return ago(p.Created) },
			machine: func(p contract.Person) string { return stamp(p.Created) }},
		{title: "waiting", text: func(p contract.Person) string {
			if p.Waiting {
				return "has a one-time password"
			}
			return "-"
		}},
	}
}

func invitationsCommand() *cobra.Command {
	return &cobra.Command{Use: "invitations", Short: "List invitations that can still be used", Args: cobra.NoArgs,
		RunE: with(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			rows, err := c.Invitations(cmd.Context())
			if err != nil {
				return err
			}
			return show(cmd, rows,
				column[contract.PersonInvitation]{title: "invitation", text: func(i contract.PersonInvitation) string {
					return fmt.Sprint(i.ID)
				}},
				column[contract.PersonInvitation]{title: "name", text: func(i contract.PersonInvitation) string { return i.Name }},
				column[contract.PersonInvitation]{title: "role", text: func(i contract.PersonInvitation) string { return string(i.Role) }},
				column[contract.PersonInvitation]{title: "sees", text: func(i contract.PersonInvitation) string {
					return team.Sight(i.Tags).Words()
				}},
				column[contract.PersonInvitation]{title: "by", text: func(i contract.PersonInvitation) string { return i.By }},
				column[contract.PersonInvitation]{title: "ends", text: func(i contract.PersonInvitation) string {
					return "in " + pace.Length(time.Until(i.Expires))
				}, machine: func(i contract.PersonInvitation) string { return stamp(i.Expires) }})
		})}
}

func uninviteCommand() *cobra.Command {
	return removal("uninvite INVITATION", "Take an invitation back", 1,
		func(cmd *cobra.Command, c *client.Client, args []string) (string, error) {
			id, err := numbered("invitation", "person invitations", args[0])
			if err != nil {
				return "", err
			}
			return "Invitation " + args[0] + " no longer works.", c.TakeBack(cmd.Context(), id)
		})
}

func auditCommand() *cobra.Command {
	list := &cobra.Command{Use: "list", Short: "List who did what, the newest first", Args: cobra.NoArgs,
		Example: `  inkpost audit list --site KET-07
  inkpost audit list --person dispatch --kind sites.services
  inkpost audit list --kind session --failed`}
	query := actFlags(list)
	limit := 0
	list.Flags().IntVar(&limit, "limit", 50, "how many, 1 to 1000")
	list.RunE = with(func(cmd *cobra.Command, c *client.Client, _ []string) error {
		q := query()
		q.Set("limit", fmt.Sprint(limit))
		rows, err := c.Acts(cmd.Context(), q)
		if err != nil {
			return err
		}
		return show(cmd, rows, actColumns()...)
	})
	export := &cobra.Command{Use: "export", Short: "Write who did what as JSON lines, all of it", Args: cobra.NoArgs,
		Example: `  inkpost audit export --since 2026-11-01T00:00:00Z > audit.jsonl`}
	narrowed := actFlags(export)
	export.RunE = with(func(cmd *cobra.Command, c *client.Client, _ []string) error {
		return c.ActLines(cmd.Context(), narrowed(), cmd.OutOrStdout())
	})
	return group("audit", "Who did what, from where, and what was so before and after", list, export)
}

// actFlags adds the flags that narrow the audit trail, and returns what they say.
func actFlags(cmd *cobra.Command) func() url.Values {
	given := map[string]*string{}
	for _, f := range []struct{ name, about string }{{"person", "only what they did"}, {"site", "only what was done at this site"},
		{"kind", "only what this is about, such as sites.devices"}, {"since", "done at this RFC 3339 time or later"},
		{"until", "done before this RFC 3339 time"}} {
		given[f.name] = cmd.Flags().String(f.name, "", f.about)
	}
	failed := cmd.Flags().Bool("failed", false, "only what failed")
	return func() url.Values {
		q := url.Values{}
		for name, v := range given {
			if *v != "" {
				q.Set(name, *v)
			}
		}
		if *failed {
			q.Set("failed", "true")
		}
		return q
	}
}

func actColumns() []column[contract.Act] {
	return []column[contract.Act]{
		{title: "when", text: func(a contract.Act) string { return ago(a.At) }, machine: func(a contract.Act) string {
			return stamp(a.At)
		}},
		{title: "who", text: func(a contract.Act) string { return orDash(a.Person) }, tone: func(contract.Act) tone { return strong }},
		{title: "what", text: func(a contract.Act) string { return a.Words }},
		{title: "site", text: func(a contract.Act) string { return orDash(a.Site) }},
		{title: "subject", text: func(a contract.Act) string { return orDash(a.Subject) }},
		{title: "changed", text: func(a contract.Act) string { return changedWords(a.Before, a.After) }},
		{title: "result", text: actResult, machine: func(a contract.Act) string { return fmt.Sprint(a.Status) },
			tone: func(a contract.Act) tone {
				if a.Status >= 400 {
					return wrong
				}
				return plain
			}},
		{title: "from", text: func(a contract.Act) string { return orDash(a.Address) }},
		{title: "key", text: func(a contract.Act) string { return orDash(a.Key) }},
	}
}

func actResult(a contract.Act) string {
	switch {
	case a.Status == 0:
		return "not known"
	case a.Status >= 400:
		return fmt.Sprintf("refused, %d", a.Status)
	}
	return "done"
}

// changedWords say which fields were what before and are what now.
func changedWords(before, after json.RawMessage) string {
	var was, is map[string]json.RawMessage
	_ = json.Unmarshal(before, &was)
	_ = json.Unmarshal(after, &is)
	all := maps.Clone(was)
	if all == nil {
		all = map[string]json.RawMessage{}
	}
	maps.Copy(all, is)
	var out []string
	for _, name := range slices.Sorted(maps.Keys(all)) {
		one := name
		if v, there := was[name]; there {
			one += " " + string(v)
		}
		if v, there := is[name]; there {
			one += " → " + string(v)
		}
		out = append(out, one)
	}
	return orDash(strings.Join(out, "; "))
}

func settingsCommand() *cobra.Command {
	columns := []column[contract.Settings]{{title: "owners need a second factor",
		text: func(s contract.Settings) string { return yes(s.OwnersNeedSecond) }}}
	look := &cobra.Command{Use: "show", Short: "Show what is set", Args: cobra.NoArgs,
		RunE: with(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			s, err := c.Settings(cmd.Context())
			if err != nil {
				return err
			}
			return showOne(cmd, s, columns...)
		})}
	var second bool
	set := &cobra.Command{Use: "set", Short: "Set something", Args: cobra.NoArgs,
		Example: `  inkpost settings set --owners-need-second-factor`,
		RunE: with(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			if !cmd.Flags().Changed("owners-need-second-factor") {
				return usagef("say what to set: --owners-need-second-factor or --owners-need-second-factor=false")
			}
			s, err := c.SetSettings(cmd.Context(), contract.Settings{OwnersNeedSecond: second})
			if err != nil {
				return err
			}
			return showOne(cmd, s, columns...)
		})}
	set.Flags().BoolVar(&second, "owners-need-second-factor", false, "owners have to set up a second factor at their next sign-in")
	return group("settings", "What is set for the whole installation", look, set)
}
