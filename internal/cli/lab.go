package cli

import (
	"github.com/spf13/cobra"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
)

// labRow is a service of the simulated world with its site's addresses.
type labRow struct {
	contract.LabService
	site    contract.LabSite
	address string
}

func labCommand() *cobra.Command {
	world := &cobra.Command{Use: "world", Short: "List the simulated sites, addresses, forwards and devices", Args: cobra.NoArgs,
		RunE: with(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			w, err := c.World(cmd.Context())
			if err != nil {
				return err
			}
			if format, _ := cmd.Flags().GetString("format"); format == "json" || format == "yaml" {
				return showOne(cmd, w)
			}
			var rows []labRow
			for _, s := range w.Sites {
				address := ""
				for _, l := range s.Links {
					if address != "" {
						address += " "
					}
					address += l.Address
				}
				for _, svc := range s.Services {
					rows = append(rows, labRow{svc, s, address})
				}
			}
			on := func(b bool, yes, no string) string {
				if b {
					return yes
				}
				return no
			}
			return show(cmd, rows,
				column[labRow]{title: "site", text: func(r labRow) string { return r.site.Code },
					tone: func(labRow) tone { return strong }},
				column[labRow]{title: "wan address", text: func(r labRow) string { return r.address }},
				column[labRow]{title: "service", text: func(r labRow) string { return r.Name }},
				column[labRow]{title: "external", text: func(r labRow) string { return count(r.External) }},
				column[labRow]{title: "forward", text: func(r labRow) string { return on(r.Forwarded, "present", "absent") },
					tone: func(r labRow) tone {
						if r.Forwarded {
							return plain
						}
						return unsettled
					}},
				column[labRow]{title: "device", text: func(r labRow) string { return r.Device + " " + r.LAN }},
				column[labRow]{title: "runs", text: func(r labRow) string { return yes(r.Running) }, tone: func(r labRow) tone {
					if r.Running {
						return plain
					}
					return unsettled
				}})
		})}
	var link string
	renumber := &cobra.Command{Use: "renumber SITE", Short: "Make the provider change a site's address now", Args: cobra.ExactArgs(1),
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			r, err := c.Renumber(cmd.Context(), args[0], link)
			if err == nil {
				say(cmd, "Link %s of %s went from %s to %s.", r.Link, args[0], r.Old, r.New)
			}
			return err
		})}
	renumber.Flags().StringVar(&link, "link", "main", "the link to renumber")
	toggle := func(use, short string, words string, f func(*client.Client, *cobra.Command, []string) error) *cobra.Command {
		return &cobra.Command{Use: use, Short: short, Args: cobra.ExactArgs(2),
			RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
				err := f(c, cmd, args)
				if err == nil {
					say(cmd, "%s of %s %s.", args[1], args[0], words)
				}
				return err
			})}
	}
	service := func(on bool) func(*client.Client, *cobra.Command, []string) error {
		return func(c *client.Client, cmd *cobra.Command, args []string) error {
			return c.SetLabService(cmd.Context(), args[0], args[1], on)
		}
	}
	forward := func(on bool) func(*client.Client, *cobra.Command, []string) error {
		return func(c *client.Client, cmd *cobra.Command, args []string) error {
			return c.SetLabForward(cmd.Context(), args[0], args[1], on)
		}
	}
	misdirect := &cobra.Command{Use: "misdirect SITE SERVICE OTHER", Short: "Have the forward to a service lead to another one",
		Args: cobra.ExactArgs(3), RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			err := c.SetLabForwardTo(cmd.Context(), args[0], args[1], args[2])
			if err == nil {
				say(cmd, "The forward of %s at %s leads to %s.", args[1], args[0], args[2])
			}
			return err
		})}
	restart := &cobra.Command{Use: "restart SITE", Short: "Restart the machine on which a site's agent runs", Args: cobra.ExactArgs(1),
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			err := c.RestartLabMachine(cmd.Context(), args[0])
			if err == nil {
				say(cmd, "The machine of the agent at %s restarts.", args[0])
			}
			return err
		})}
	awake := func(on bool) func(*client.Client, *cobra.Command, []string) error {
		return func(c *client.Client, cmd *cobra.Command, args []string) error {
			return c.SetLabAwake(cmd.Context(), args[0], args[1], on)
		}
	}
	primary := func(use, short, words string, running bool) *cobra.Command {
		return &cobra.Command{Use: use, Short: short, Args: cobra.NoArgs,
			RunE: with(func(cmd *cobra.Command, c *client.Client, _ []string) error {
				err := c.SetLabPrimary(cmd.Context(), running)
				if err == nil {
					say(cmd, "The primary of the remote zone %s.", words)
				}
				return err
			})}
	}
	take := &cobra.Command{Use: "take NAME ADDRESS", Short: "Have somebody else hold a name in the remote zone",
		Args: cobra.ExactArgs(2), RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			err := c.SetLabTaken(cmd.Context(), args[0], args[1])
			if err == nil {
				say(cmd, "%s is somebody else's, and leads to %s.", args[0], args[1])
			}
			return err
		})}
	free := &cobra.Command{Use: "free NAME", Short: "Free a name that somebody else held", Args: cobra.ExactArgs(1),
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			err := c.SetLabTaken(cmd.Context(), args[0], "")
			if err == nil {
				say(cmd, "%s is nobody's.", args[0])
			}
			return err
		})}
	outage := func(use, short, words string, running bool) *cobra.Command {
		return &cobra.Command{Use: use, Short: short, Args: cobra.ExactArgs(1),
			RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
				err := c.SetLabProvider(cmd.Context(), args[0], running)
				if err == nil {
					say(cmd, "The lines of %s %s.", args[0], words)
				}
				return err
			})}
	}
	mend := &cobra.Command{Use: "mend SITE", Short: "Repair everything that is wrong at a simulated site", Args: cobra.ExactArgs(1),
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			m, err := c.Mend(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			for _, words := range m.Mended {
				say(cmd, "At %s, %s.", args[0], words)
			}
			if len(m.Mended) == 0 {
				say(cmd, "Nothing was wrong at %s.", args[0])
			}
			return nil
		})}
	return group("lab", "Change the simulated world of the demo", world, renumber, restart, mend,
		group("primary", "Take the remote zone's primary away, bring it back, and have it hold names for somebody else", take, free,
			primary("stop", "Take it away", "is away", false), primary("start", "Bring it back", "is back", true)),
		group("outage", "Have a provider fail, and end that",
			outage("begin PROVIDER", "Have all lines of a provider be dead", "are dead", false),
			outage("end PROVIDER", "Bring them back", "work again", true)),
		group("service", "Stop and start services on simulated devices",
			toggle("stop SITE SERVICE", "Stop a service on its device", "is stopped", service(false)),
			toggle("start SITE SERVICE", "Start a service on its device", "runs", service(true))),
		group("device", "Have simulated devices sleep and wake",
			toggle("sleep SITE DEVICE", "Have a device sleep", "sleeps", awake(false)),
			toggle("wake SITE DEVICE", "Wake a device", "is awake", awake(true))),
		group("forward", "Enter, remove and mistype forwards in simulated routers", misdirect,
			toggle("remove SITE SERVICE", "Remove the router's forward to a service", "is no longer forwarded", forward(false)),
			toggle("restore SITE SERVICE", "Enter the router's forward to a service", "is forwarded", forward(true))))
}
