package cli

import (
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/site"
)

func kitCommand() *cobra.Command {
	var file string
	var in contract.KitUse
	list := &cobra.Command{Use: "list", Short: "List kits", Args: cobra.NoArgs,
		RunE: with(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			rows, err := c.Kits(cmd.Context())
			if err != nil {
				return err
			}
			return show(cmd, rows,
				column[site.Kit]{title: "kit", text: func(k site.Kit) string { return k.Name }, tone: func(site.Kit) tone {
					return strong
				}},
				column[site.Kit]{title: "for", text: func(k site.Kit) string { return k.Title }},
				column[site.Kit]{title: "services", text: func(k site.Kit) string { return strings.Join(kitServices(k), ", ") }},
				column[site.Kit]{title: "made", text: func(k site.Kit) string {
					if k.Own {
						return "here"
					}
					return "ready-made"
				}})
		})}
	one := &cobra.Command{Use: "show KIT", Short: "Show what a kit has, and what it advises", Args: cobra.ExactArgs(1),
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			k, err := c.Kit(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			if format, _ := cmd.Flags().GetString("format"); format == "json" || format == "yaml" {
				return document(cmd.OutOrStdout(), format, k)
			}
			paint := painter(coloured(cmd))
			say(cmd, "%s  %s", paint(strong, k.Name), k.Title)
			for _, s := range kitServices(k) {
				say(cmd, "  %s", s)
			}
			paragraphs := func(title string, lines []string) {
				if len(lines) > 0 {
					say(cmd, "\n%s", paint(strong, title))
				}
				for _, l := range lines {
					for i, part := range wrapped(l, 88) {
						say(cmd, "%s%s", map[bool]string{true: "  - ", false: "    "}[i == 0], part)
					}
				}
			}
			paragraphs("Before it is exposed", k.Advice)
			paragraphs("To set up on it", k.Steps)
			return nil
		})}
	export := &cobra.Command{Use: "export KIT", Short: "Write a kit as a YAML file, to be changed and shared", Args: cobra.ExactArgs(1),
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			return toFile(cmd, file, func(w io.Writer) error { return c.ExportKit(cmd.Context(), args[0], w) })
		})}
	export.Flags().StringVar(&file, "file", "", "write to this new file instead of standard output")
	add := &cobra.Command{Use: "import FILE", Short: "Keep a kit of your own from a YAML file; - reads standard input",
		Args: cobra.ExactArgs(1),
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			var from io.Reader = cmd.InOrStdin()
			if args[0] != "-" {
				f, err := os.Open(args[0])
				if err != nil {
					return err
				}
				defer f.Close()
				from = f
			}
			k, err := c.ImportKit(cmd.Context(), from)
			if err == nil {
				say(cmd, "Kit %s is kept: %s. To use it: inkpost kit use %s SITE DEVICE --lan-address ADDRESS", k.Name, k.Title, k.Name)
			}
			return err
		})}
	use := &cobra.Command{Use: "use KIT SITE DEVICE --lan-address ADDRESS", Short: "Put a device and its services on record by a kit",
		Args:    cobra.ExactArgs(3),
		Example: `  inkpost kit use video-recorder KET-07 recorder --lan-address 192.168.7.20 --mac 02:00:5e:07:00:01`,
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			in.Device = args[2]
			k, err := c.Kit(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			s, err := c.UseKit(cmd.Context(), args[1], args[0], in)
			if err != nil {
				return err
			}
			say(cmd, "%s of %s is on record with %s.", in.Device, s.Code, plural(len(k.Services), "service"))
			for _, l := range k.Advice {
				say(cmd, "Mind: %s", l)
			}
			if !in.Closed {
				say(cmd, "Next, step by step: inkpost commission %s", s.Code)
			}
			return nil
		})}
	use.Flags().StringVar(&in.Address, "lan-address", "", "the device's address on the LAN")
	use.Flags().StringVar(&in.MAC, "mac", "", "its MAC address")
	use.Flags().BoolVar(&in.Reserved, "reserved", false, "the router always gives it this address")
	use.Flags().IntVar(&in.Shift, "shift", 0, "add this to each port outside: another of a kind at the site")
	use.Flags().BoolVar(&in.Closed, "closed", false, "it is reached through a VPN: expect all of its ports closed")
	remove := removal("remove KIT", "Remove a kit of your own; what was put on record by it stays", 1,
		func(cmd *cobra.Command, c *client.Client, args []string) (string, error) {
			return "Kit " + args[0] + " is removed.", c.RemoveKit(cmd.Context(), args[0])
		})
	return group("kit", "Ready-made sets of services for common equipment", list, one, use, export, add, remove)
}

func plural(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

func kitServices(k site.Kit) (out []string) {
	for _, s := range k.Services {
		words := fmt.Sprintf("%s (%s) %d", s.Name, s.Kind, s.External)
		if s.Internal != 0 && s.Internal != s.External {
			words += fmt.Sprintf(" to %d", s.Internal)
		}
		if s.Expected == "closed" {
			words += ", closed"
		}
		out = append(out, words)
	}
	return out
}
