package cli

import (
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/pace"
)

func zoneColumns() []column[names.Zone] {
	return []column[names.Zone]{
		{title: "zone", text: func(z names.Zone) string { return string(z.Apex) }, tone: func(names.Zone) tone { return strong }},
		{title: "kind", text: func(z names.Zone) string { return string(z.Kind) }},
		{title: "serial", text: func(z names.Zone) string {
			if z.Kind == names.Remote {
				return "-" // its primary's
			}
			return fmt.Sprint(z.Serial)
		}},
		{title: "ttl", text: func(z names.Zone) string { return fmt.Sprintf("%d s", z.TTL) },
			machine: func(z names.Zone) string { return fmt.Sprint(z.TTL) }},
		{title: "contact", text: func(z names.Zone) string { return string(z.Contact) }},
		{title: "servers", text: func(z names.Zone) string {
			if z.Kind == names.Remote && !z.Pushing {
				return "primary " + z.Primary.String() + ", nothing is pushed yet"
			} else if z.Kind == names.Remote {
				return "primary " + z.Primary.String()
			}
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
	add := &cobra.Command{Use: "add APEX --server NAME=ADDRESS", Short: "Have Ink Post serve a DNS zone, or push one to its primary",
		Args: cobra.ExactArgs(1),
		Example: `  inkpost zone add isles.saltmarsh.example --ns ns1.isles.saltmarsh.example=198.51.100.1
  inkpost zone add quay.saltmarsh.example --primary 198.51.100.53 --primary-key quay-push`,
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			in.Apex = args[0]
			if in.Primary != "" {
				in.Kind = string(names.Remote)
			}
			z, err := c.AddZone(cmd.Context(), in)
			if err == nil {
				recorded(cmd, z)
			}
			return err
		})}
	edit := &cobra.Command{Use: "edit APEX", Short: "Change a zone's servers, contact or TTL", Args: cobra.ExactArgs(1),
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			f, err := given(cmd, map[string]string{"ns": "servers", "contact": "contact", "ttl": "ttl_seconds",
				"transfer-to": "transfer_to", "transfer-key": "transfer_key", "notify": "notify", "also-ask": "also_ask",
				"template": "template",
				"refresh":  "refresh_seconds", "retry": "retry_seconds", "expire": "expire_seconds", "negative": "negative_seconds",
				"primary": "primary", "primary-key": "primary_key", "transport": "transport", "reassert": "reassert_seconds"})
			if err != nil {
				return err
			}
			z, err := c.EditZone(cmd.Context(), args[0], f)
			if err == nil {
				recorded(cmd, z)
			}
			return err
		})}
	for _, c := range []*cobra.Command{add, edit} {
		c.Flags().StringArrayVar(&in.Servers, "ns", nil, "a name server, as NAME or NAME=ADDRESS; give it again for each")
		c.Flags().StringArrayVar(&in.TransferTo, "transfer-to", nil,
			"an address or prefix that may have the whole zone; give it again for each")
		c.Flags().StringVar(&in.TransferKey, "transfer-key", "", "the signing key whose holders may have the whole zone")
		c.Flags().StringArrayVar(&in.Notify, "notify", nil,
			"a secondary to tell of changes, ADDRESS or ADDRESS:PORT; give it again for each")
		c.Flags().StringVar(&in.Contact, "contact", "", "mail address of who answers for the zone")
		c.Flags().IntVar(&in.TTL, "ttl", 0, "seconds that resolvers may keep answers (30)")
		c.Flags().IntVar(&in.Refresh, "refresh", 0, "seconds after which secondaries look for changes (3600)")
		c.Flags().IntVar(&in.Retry, "retry", 0, "seconds after which they try again (300)")
		c.Flags().IntVar(&in.Expire, "expire", 0, "seconds after which they stop answering without us (1209600)")
		c.Flags().IntVar(&in.Negative, "negative", 0, "negative-caching TTL in seconds (30)")
		c.Flags().StringArrayVar(&in.AlsoAsk, "also-ask", nil,
			"a further authoritative server to verify names at, ADDRESS or ADDRESS:PORT; give it again for each")
		c.Flags().StringVar(&in.Template, "template", "",
			"makes a site's first name, such as {code}.isles.saltmarsh.example; {name} and {n} may stand in it too")
		c.Flags().StringVar(&in.Primary, "primary", "", "of a remote zone: its primary, ADDRESS or ADDRESS:PORT")
		c.Flags().StringVar(&in.PrimaryKey, "primary-key", "", "the signing key that the primary knows us by")
		c.Flags().StringVar(&in.Transport, "transport", "", "how updates go to the primary: udp (default) or tcp")
		c.Flags().IntVar(&in.Reassert, "reassert", 0, "seconds after which a name is told to the primary again (86400)")
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
	return group("zone", "DNS zones that hostnames live in", add, list, one, edit, zoneExport(), zoneImport(), zoneDifference(),
		zonePush(), zonePushes(),
		removal("remove APEX", "Remove a zone in which no hostname lives", 1,
			func(cmd *cobra.Command, c *client.Client, args []string) (string, error) {
				return "Zone " + args[0] + " is removed.", c.RemoveZone(cmd.Context(), args[0])
			}))
}

func recorded(cmd *cobra.Command, z names.Zone) {
	switch {
	case z.Kind == names.Hosted:
		say(cmd, "Zone %s is served with serial %d.", z.Apex, z.Serial)
	case z.Pushing:
		say(cmd, "Names of zone %s go to its primary %s.", z.Apex, z.Primary)
	default:
		say(cmd, "Zone %s is on record. Nothing is pushed yet: inkpost zone difference %s shows what would change at %s, inkpost "+
			"zone push %s begins.", z.Apex, z.Apex, z.Primary, z.Apex)
	}
}

func zoneExport() *cobra.Command {
	var file string
	c := &cobra.Command{Use: "export APEX", Short: "Write a zone as a zone file (RFC 1035)", Args: cobra.ExactArgs(1),
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			return toFile(cmd, file, func(w io.Writer) error { return c.ExportZone(cmd.Context(), args[0], w) })
		})}
	c.Flags().StringVar(&file, "file", "", "write to this new file instead of standard output")
	return c
}

func zoneImport() *cobra.Command {
	var how contract.ZoneImportInput
	c := &cobra.Command{Use: "import APEX FILE", Short: "Take a zone file (RFC 1035) over into a zone, or make the zone from it",
		Args: cobra.ExactArgs(2),
		Long: `Take the records of a zone file over. Hostnames, aliases and redirects stay as they are; --replace
removes other records that the file does not have. SOA and servers of a zone that is on record stay,
too, unless --replace-servers is given. FILE - reads standard input.`,
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			var in io.Reader = cmd.InOrStdin()
			if args[1] != "-" {
				f, err := os.Open(args[1])
				if err != nil {
					return err
				}
				defer f.Close()
				in = f
			}
			out, err := c.ImportZone(cmd.Context(), args[0], in, how)
			if err != nil {
				return err
			}
			if format, _ := cmd.Flags().GetString("format"); format != "table" {
				return showOne(cmd, out, column[contract.ZoneImport]{title: "zone",
					text: func(z contract.ZoneImport) string { return string(z.Zone) }})
			}
			paint := painter(coloured(cmd))
			line := func(t tone, sign string, r names.Record, note string) {
				say(cmd, "%s %s %d %s %s%s", paint(t, sign), r.Name, r.TTL, r.Type, r.Data, note)
			}
			for _, r := range out.Added {
				line(proven, "+", r, "")
			}
			for _, r := range out.Removed {
				line(wrong, "-", r, "")
			}
			for _, r := range out.Left {
				line(faded, "·", r.Record, "  "+paint(faded, "left out: "+r.Reason))
			}
			for _, words := range out.Servers {
				if out.ServersKept {
					say(cmd, "%s the file has %s  %s", paint(faded, "·"), words,
						paint(faded, "left as it is: --replace-servers takes it over"))
				} else {
					say(cmd, "%s %s", paint(proven, "~"), words)
				}
			}
			verb := "Zone %s: %d records added, %d removed, %d there already, %d left out."
			if !out.Carried {
				verb = "Zone %s, dry run: %d records would be added, %d removed, %d are there already, %d would be left out. " +
					"Nothing was changed."
			}
			say(cmd, verb, out.Zone, len(out.Added), len(out.Removed), out.Same, len(out.Left))
			return nil
		})}
	c.Flags().BoolVar(&how.Replace, "replace", false, "remove records that the file does not have")
	c.Flags().BoolVar(&how.ReplaceServers, "replace-servers", false, "take SOA and servers of a zone that is on record from the file, too")
	c.Flags().BoolVar(&how.DryRun, "dry-run", false, "say what would change, and change nothing")
	return c
}

func zoneDifference() *cobra.Command {
	return &cobra.Command{Use: "difference APEX", Short: "Show what a push would change at a remote zone's primary; " +
		"nothing is pushed", Args: cobra.ExactArgs(1),
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			rows, err := c.ZoneDifferences(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			if format, _ := cmd.Flags().GetString("format"); format == "table" && len(rows) == 0 {
				say(cmd, "The primary of %s is up to date.", args[0])
				return nil
			}
			join := func(list []string) string { return orDash(strings.Join(list, ", ")) }
			return show(cmd, rows,
				column[names.Difference]{title: "name", text: func(d names.Difference) string { return string(d.Name) },
					tone: func(names.Difference) tone { return strong }},
				column[names.Difference]{title: "type", text: func(d names.Difference) string { return d.Type }},
				column[names.Difference]{title: "at the primary", text: func(d names.Difference) string { return join(d.Now) },
					tone: func(names.Difference) tone { return wrong }},
				column[names.Difference]{title: "should be", text: func(d names.Difference) string { return join(d.Want) },
					tone: func(names.Difference) tone { return proven }})
		})}
}

func zonePush() *cobra.Command {
	return &cobra.Command{Use: "push APEX", Short: "Push all names of a remote zone to its primary now; the first call starts pushing",
		Args: cobra.ExactArgs(1),
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			rows, err := c.PushZone(cmd.Context(), args[0])
			if err == nil {
				say(cmd, "%d names go to the primary of %s; inkpost zone pushes %s shows how they stand.", len(rows), args[0], args[0])
			}
			return err
		})}
}

func zonePushes() *cobra.Command {
	return &cobra.Command{Use: "pushes APEX", Short: "List how each name of a remote zone stands at its primary", Args: cobra.ExactArgs(1),
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			rows, err := c.ZonePushes(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return show(cmd, rows,
				column[contract.Push]{title: "name", text: func(p contract.Push) string { return string(p.Name) },
					tone: func(contract.Push) tone { return strong }},
				column[contract.Push]{title: "state", text: func(p contract.Push) string { return p.State },
					tone: func(p contract.Push) tone {
						if t, known := map[string]tone{contract.PushTaken: proven, contract.PushWaiting: unsettled}[p.State]; known {
							return t
						}
						return wrong
					}},
				column[contract.Push]{title: "meant", text: func(p contract.Push) string { return orDash(p.Wanted) }},
				column[contract.Push]{title: "taken", text: func(p contract.Push) string { return ago(p.Taken) },
					machine: func(p contract.Push) string { return stamp(p.Taken) }},
				column[contract.Push]{title: "tries", text: func(p contract.Push) string { return count(p.Tries) }},
				column[contract.Push]{title: "next try", text: func(p contract.Push) string {
					if p.NextTry.IsZero() {
						return "-"
					}
					return "in " + pace.Length(max(time.Second, time.Until(p.NextTry)))
				}, machine: func(p contract.Push) string { return stamp(p.NextTry) }},
				column[contract.Push]{title: "detail", text: func(p contract.Push) string { return orDash(p.Detail) }})
		})}
}
