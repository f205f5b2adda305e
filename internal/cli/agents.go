package cli

import (
	"fmt"
	"net/netip"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"inkpost.example/inkpost/internal/agent/command"
	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/pace"
)

// prefixFlag adds the flag that says where a key may announce beside its connection's own address.
func prefixFlag(cmd *cobra.Command) (read func() ([]netip.Prefix, error)) {
	var texts []string
	cmd.Flags().StringSliceVar(&texts, "may-announce", nil,
		"prefix in which the key may announce addresses that are not its connection's own; give it again for each")
	return func() ([]netip.Prefix, error) { return prefixes(texts) }
}

func prefixes(texts []string) ([]netip.Prefix, error) {
	out := []netip.Prefix{}
	for _, text := range texts {
		p, err := readPrefix(text)
		if err != nil {
			return nil, usagef("%q is neither an address nor a prefix such as 198.51.100.0/24", text)
		}
		out = append(out, p.Masked())
	}
	return out, nil
}

func agentCommand() *cobra.Command {
	var inviteFor, routerFor func() ([]netip.Prefix, error)
	invite := &cobra.Command{Use: "invite SITE [LINK]", Short: "Make a one-time code for the agent of a link", Args: cobra.RangeArgs(1, 2),
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			label := "main"
			if len(args) == 2 {
				label = args[1]
			} else if links, err := c.Links(cmd.Context(), args[0]); err != nil {
				return err
			} else if len(links) == 1 {
				label = links[0].Label
			}
			may, err := inviteFor()
			if err != nil {
				return err
			}
			inv, err := c.Invite(cmd.Context(), args[0], label, may...)
			if err != nil {
				return err
			}
			if format, _ := cmd.Flags().GetString("format"); format != "table" {
				return showOne(cmd, inv, column[contract.Invitation]{title: "code",
					text: func(i contract.Invitation) string { return i.Code }})
			}
			say(cmd, "One-time code for link %s of %s, valid for a day: %s", inv.Link, inv.Site, inv.Code)
			say(cmd, "At the site: inkpost agent run --server %s --code %s", reachedAt(cmd, c, inv.Server), inv.Code)
			return nil
		})}
	router := &cobra.Command{Use: "router-url SITE [LINK]", Short: "Make a URL for a router that announces by fetching it",
		Args: cobra.RangeArgs(1, 2),
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			label := "main"
			if len(args) == 2 {
				label = args[1]
			}
			may, err := routerFor()
			if err != nil {
				return err
			}
			k, err := c.AddRouterKey(cmd.Context(), args[0], label, "router of "+args[0]+" "+label, may...)
			if err != nil {
				return err
			}
			say(cmd, "In the router, as the URL to fetch when the address changes (ipv4 and ipv6 may be left out):")
			server := reachedAt(cmd, c, k.Server)
			say(cmd, "  %s/announce/%s?ipv4=ADDRESS", server, k.Secret)
			say(cmd, "or %s/announce with the password %s and any user name.", server, k.Secret)
			say(cmd, "The address that the router speaks from is taken. One that it passes in the URL, such as its IPv6 address over "+
				"IPv4, has to be allowed:")
			say(cmd, "  inkpost key allow %d PREFIX", k.ID)
			return nil
		})}
	inviteFor, routerFor = prefixFlag(invite), prefixFlag(router)
	return group("agent", "The program at the site that announces its address", invite, command.Run(Version), command.Status(),
		command.Install(Version), router, lanCommand(), proveCommand())
}

// reachedAt is where the server is reached from elsewhere: as it says, or else as it is reached from here, with a warning.
func reachedAt(cmd *cobra.Command, c *client.Client, public string) string {
	if public != "" {
		return public
	}
	_, _ = fmt.Fprintln(cmd.ErrOrStderr(), "warning: the server does not know at which URL it is reached from elsewhere.",
		"What follows is how it is reached from here; set serve --public-url.")
	return c.Base()
}

// allowed says where a key may announce.
func allowed(may []netip.Prefix) string {
	words := "the address that it speaks from"
	for _, p := range may {
		words += ", and addresses in " + p.String()
	}
	return words
}

func keyCommand() *cobra.Command {
	list := &cobra.Command{Use: "list", Short: "List access keys", Args: cobra.NoArgs,
		RunE: with(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			rows, err := c.Keys(cmd.Context())
			if err != nil {
				return err
			}
			return show(cmd, rows,
				column[contract.Key]{title: "key", text: func(k contract.Key) string { return fmt.Sprint(k.ID) }},
				column[contract.Key]{title: "scope", text: func(k contract.Key) string { return k.Scope }},
				column[contract.Key]{title: "may", text: func(k contract.Key) string { return k.May }},
				column[contract.Key]{title: "holder", text: func(k contract.Key) string { return k.Holder },
					tone: func(contract.Key) tone { return strong }},
				column[contract.Key]{title: "label", text: func(k contract.Key) string { return k.Label }},
				column[contract.Key]{title: "made", text: func(k contract.Key) string { return ago(k.Created) },
					machine: func(k contract.Key) string { return stamp(k.Created) }},
				column[contract.Key]{title: "last used", text: func(k contract.Key) string { return ago(k.Used) },
					machine: func(k contract.Key) string { return stamp(k.Used) }},
				column[contract.Key]{title: "expires", text: func(k contract.Key) string {
					if k.Expires.IsZero() {
						return "never"
					}
					return "in " + pace.Length(time.Until(k.Expires))
				}, machine: func(k contract.Key) string { return stamp(k.Expires) }},
				column[contract.Key]{title: "may announce", text: func(k contract.Key) string {
					var words []string
					for _, p := range k.MayAnnounce {
						words = append(words, p.String())
					}
					return orDash(strings.Join(words, " "))
				}},
				column[contract.Key]{title: "revoked", text: func(k contract.Key) string {
					if k.Revoked.IsZero() {
						return "-"
					}
					return ago(k.Revoked)
				}, machine: func(k contract.Key) string { return stamp(k.Revoked) }})
		})}
	rotate := &cobra.Command{Use: "rotate KEY", Short: "Make an agent replace its key", Args: cobra.ExactArgs(1),
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			id, err := strconv.ParseInt(args[0], 10, 64)
			if err != nil {
				return usagef("%q is not the number of a key; inkpost key list shows them", args[0])
			}
			if err := c.RotateKey(cmd.Context(), id); err != nil {
				return err
			}
			say(cmd, "The agent replaces its key at its next announcement; key %s is revoked once the new one is used.", args[0])
			return nil
		})}
	var in contract.KeyInput
	days := 0
	add := &cobra.Command{Use: "add LABEL", Short: "Make a key of your own, for a program", Args: cobra.ExactArgs(1),
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			in.Label, in.Expires = args[0], time.Now().AddDate(0, 0, days)
			k, err := c.AddKey(cmd.Context(), in)
			if err != nil {
				return err
			}
			return showOne(cmd, k,
				column[contract.Key]{title: "key", text: func(k contract.Key) string { return fmt.Sprint(k.ID) }},
				column[contract.Key]{title: "expires", text: func(k contract.Key) string { return stamp(k.Expires) }},
				column[contract.Key]{title: "secret", text: func(k contract.Key) string { return k.Secret },
					tone: func(contract.Key) tone { return strong }})
		})}
	add.Flags().StringVar(&in.May, "may", "", "what it is made for: read, probe or edit; as much as you may if left out")
	add.Flags().IntVar(&days, "days", 365, "how many days it is valid")
	allow := &cobra.Command{Use: "allow KEY [PREFIX...]",
		Short: "Set which addresses a link's key may announce besides its connection's own", Args: cobra.MinimumNArgs(1),
		Long: `A key of an agent or a router announces the address that it speaks from, and no other, unless a
person allows more: what is stolen must not lead names, or probes, to somebody else. This sets
the prefixes that are allowed; none takes them all back.`,
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			id, err := strconv.ParseInt(args[0], 10, 64)
			if err != nil {
				return usagef("%q is not the number of a key; inkpost key list shows them", args[0])
			}
			may, err := prefixes(args[1:])
			if err != nil {
				return err
			}
			if err := c.AllowKey(cmd.Context(), id, may...); err != nil {
				return err
			}
			say(cmd, "Key %d may announce %s.", id, allowed(may))
			return nil
		})}
	return group("key", "Access keys of people and agents", list, add, rotate, allow,
		removal("revoke KEY", "Revoke a key at once", 1, func(cmd *cobra.Command, c *client.Client, args []string) (string, error) {
			id, err := strconv.ParseInt(args[0], 10, 64)
			if err != nil {
				return "", usagef("%q is not the number of a key; inkpost key list shows them", args[0])
			}
			return "Key " + args[0] + " is revoked.", c.RevokeKey(cmd.Context(), id)
		}))
}
