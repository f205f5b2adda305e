package cli

import (
	"fmt"
	"strconv"

	"github.com/spf13/cobra"

	"inkpost.example/inkpost/internal/agent/command"
	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
)

func agentCommand() *cobra.Command {
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
			inv, err := c.Invite(cmd.Context(), args[0], label)
			if err != nil {
				return err
			}
			if format, _ := cmd.Flags().GetString("format"); format != "table" {
				return showOne(cmd, inv, column[contract.Invitation]{title: "code", text: func(i contract.Invitation) string { return i.Code }})
			}
			say(cmd, "One-time code for link %s of %s, good for a day: %s", inv.Link, inv.Site, inv.Code)
			say(cmd, "At the site: inkpost agent run --server %s --code %s", c.Base(), inv.Code)
			return nil
		})}
	router := &cobra.Command{Use: "router-url SITE [LINK]", Short: "Make a URL for a router that announces by fetching it", Args: cobra.RangeArgs(1, 2),
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			label := "main"
			if len(args) == 2 {
				label = args[1]
			}
			k, err := c.AddRouterKey(cmd.Context(), args[0], label, "router of "+args[0]+" "+label)
			if err != nil {
				return err
			}
			say(cmd, "In the router, as the URL to fetch when the address changes (ipv4 and ipv6 may be left out):")
			say(cmd, "  %s/announce/%s?ipv4=ADDRESS", c.Base(), k.Secret)
			say(cmd, "or %s/announce with the password %s and any user name.", c.Base(), k.Secret)
			return nil
		})}
	return group("agent", "The program at the site that announces its address", invite, command.Run(Version), command.Status(), command.Install(Version), router, lanCommand(), proveCommand())
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
				column[contract.Key]{title: "holder", text: func(k contract.Key) string { return k.Holder }, tone: func(contract.Key) tone { return strong }},
				column[contract.Key]{title: "label", text: func(k contract.Key) string { return k.Label }},
				column[contract.Key]{title: "made", text: func(k contract.Key) string { return ago(k.Created) }, machine: func(k contract.Key) string { return stamp(k.Created) }},
				column[contract.Key]{title: "revoked", text: func(k contract.Key) string {
					if k.Revoked.IsZero() {
						return "-"
					}
					return ago(k.Revoked)
				}, machine: func(k contract.Key) string { return stamp(k.Revoked) }})
		})}
	turn := &cobra.Command{Use: "turn KEY", Short: "Have an agent take another key in the place of the one that it has", Args: cobra.ExactArgs(1),
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			id, err := strconv.ParseInt(args[0], 10, 64)
			if err != nil {
				return usagef("%q is not the number of a key; inkpost key list shows them", args[0])
			}
			if err := c.TurnKey(cmd.Context(), id); err != nil {
				return err
			}
			say(cmd, "The agent takes another key at its next announcement; key %s is revoked when the new one is used.", args[0])
			return nil
		})}
	return group("key", "Access keys of people and agents", list, turn,
		removal("revoke KEY", "Make a key useless at once", 1, func(cmd *cobra.Command, c *client.Client, args []string) (string, error) {
			id, err := strconv.ParseInt(args[0], 10, 64)
			if err != nil {
				return "", usagef("%q is not the number of a key; inkpost key list shows them", args[0])
			}
			return "Key " + args[0] + " is revoked.", c.RevokeKey(cmd.Context(), id)
		}))
}
