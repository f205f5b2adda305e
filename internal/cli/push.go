package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
)

func pushCommand() *cobra.Command {
	list := &cobra.Command{Use: "list", Short: "List your browsers that are told by push", Args: cobra.NoArgs,
		RunE: with(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			rows, err := c.PushBrowsers(cmd.Context())
			if err != nil {
				return err
			}
			return show(cmd, rows,
				column[contract.PushBrowser]{title: "browser", text: func(b contract.PushBrowser) string { return fmt.Sprint(b.ID) }},
				column[contract.PushBrowser]{title: "label", text: func(b contract.PushBrowser) string { return b.Label }},
				column[contract.PushBrowser]{title: "push service", text: func(b contract.PushBrowser) string { return b.Service }},
				column[contract.PushBrowser]{title: "since", text: func(b contract.PushBrowser) string { return ago(b.Created) },
					machine: func(b contract.PushBrowser) string { return stamp(b.Created) }})
		})}
	remove := removal("remove BROWSER", "Have a browser no longer be told", 1,
		func(cmd *cobra.Command, c *client.Client, args []string) (string, error) {
			id, err := numbered("browser", "notice push list", args[0])
			if err != nil {
				return "", err
			}
			return "Browser " + args[0] + " is no longer told.", c.Unsubscribe(cmd.Context(), id)
		})
	return group("push", "Your browsers that are told by push; they subscribe in the console, under Notices", list, remove)
}
