package cli

import (
	"fmt"
	"os"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/names"
)

func aliasCommand() *cobra.Command {
	var in contract.AliasInput
	add := &cobra.Command{Use: "add NAME HOSTNAME", Short: "Add an alias for a hostname", Args: cobra.ExactArgs(2),
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			in.Name, in.Hostname = args[0], args[1]
			a, err := c.AddAlias(cmd.Context(), in)
			if err == nil {
				say(cmd, "Alias %s stands for %s.", a.Name, a.Hostname)
			}
			return err
		})}
	add.Flags().IntVar(&in.TTL, "ttl", 0, "how many seconds a resolver may keep the answer (default: the zone's)")
	list := &cobra.Command{Use: "list", Short: "List aliases", Args: cobra.NoArgs,
		RunE: with(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			rows, err := c.Aliases(cmd.Context())
			if err != nil {
				return err
			}
			return show(cmd, rows,
				column[contract.Alias]{title: "alias", text: func(a contract.Alias) string { return string(a.Name) },
					tone: func(contract.Alias) tone { return strong }},
				column[contract.Alias]{title: "stands for", text: func(a contract.Alias) string { return string(a.Hostname) }},
				column[contract.Alias]{title: "site", text: func(a contract.Alias) string { return a.Site }},
				column[contract.Alias]{title: "answers", text: func(a contract.Alias) string { return orDash(a.Given) }},
				column[contract.Alias]{title: "the hostname answers",
					text: func(a contract.Alias) string { return orDash(a.HostnameGiven) }},
				column[contract.Alias]{title: "the same", text: func(a contract.Alias) string {
					switch {
					case a.Same:
						return "yes"
					case a.Given == "" || a.HostnameGiven == "":
						return "not asked yet"
					}
					return "no"
				}, tone: func(a contract.Alias) tone {
					if a.Same {
						return proven
					}
					return unsettled
				}},
				column[contract.Alias]{title: "ttl", text: func(a contract.Alias) string { return fmt.Sprintf("%d s", a.TTL) },
					machine: func(a contract.Alias) string { return count(a.TTL) }})
		})}
	return group("alias", "Names that stand for hostnames", add, list,
		removal("remove NAME", "Remove an alias", 1, func(cmd *cobra.Command, c *client.Client, args []string) (string, error) {
			return "Alias " + args[0] + " is removed.", c.RemoveAlias(cmd.Context(), args[0])
		}))
}

func redirectCommand() *cobra.Command {
	var in contract.RedirectInput
	add := &cobra.Command{Use: "add NAME HOSTNAME", Short: "Add a redirect from a name to a hostname, with port and path",
		Args:    cobra.ExactArgs(2),
		Example: `  inkpost redirect add ket-cam.isles.saltmarsh.example ket-07.isles.saltmarsh.example --port 8081 --path /view`,
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			in.Name, in.Hostname = args[0], args[1]
			r, err := c.AddRedirect(cmd.Context(), in)
			if err == nil {
				say(cmd, "Redirect %s leads to %s.", r.Name, r.Leads)
			}
			return err
		})}
	edit := &cobra.Command{Use: "edit NAME", Short: "Change where a redirect leads", Args: cobra.ExactArgs(1),
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			f, err := given(cmd, map[string]string{"hostname": "hostname", "scheme": "scheme", "port": "port", "path": "path",
				"keep-path": "keep_path", "status": "status", "ttl": "ttl_seconds"})
			if err != nil {
				return err
			}
			r, err := c.EditRedirect(cmd.Context(), args[0], f)
			if err == nil {
				say(cmd, "Redirect %s leads to %s.", r.Name, r.Leads)
			}
			return err
		})}
	edit.Flags().StringVar(&in.Hostname, "hostname", "", "the hostname that it leads to")
	for _, c := range []*cobra.Command{add, edit} {
		c.Flags().StringVar(&in.Scheme, "scheme", "", "http (default) or https")
		c.Flags().IntVar(&in.Port, "port", 0, "the port there (default: the scheme's own)")
		c.Flags().StringVar(&in.Path, "path", "", "the path there (/)")
		c.Flags().BoolVar(&in.KeepPath, "keep-path", false, "let the path and query that were asked for follow behind it")
		c.Flags().IntVar(&in.Status, "status", 0, "307 (temporary, the default) or 308 (permanent)")
		c.Flags().IntVar(&in.TTL, "ttl", 0, "how many seconds a resolver may keep the answer (default: the zone's)")
	}
	list := &cobra.Command{Use: "list", Short: "List redirects", Args: cobra.NoArgs,
		RunE: with(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			rows, err := c.Redirects(cmd.Context())
			if err != nil {
				return err
			}
			return show(cmd, rows,
				column[contract.Redirect]{title: "redirect", text: func(r contract.Redirect) string { return string(r.Name) },
					tone: func(contract.Redirect) tone { return strong }},
				column[contract.Redirect]{title: "leads to", text: func(r contract.Redirect) string { return r.Leads }},
				column[contract.Redirect]{title: "path asked for",
					text: func(r contract.Redirect) string { return map[bool]string{true: "kept", false: "left out"}[r.KeepPath] }},
				column[contract.Redirect]{title: "status", text: func(r contract.Redirect) string { return count(r.Status) }},
				column[contract.Redirect]{title: "site", text: func(r contract.Redirect) string { return r.Site }})
		})}
	return group("redirect", "Names that send browsers on", add, edit, list,
		removal("remove NAME", "Remove a redirect", 1, func(cmd *cobra.Command, c *client.Client, args []string) (string, error) {
			return "Redirect " + args[0] + " is removed.", c.RemoveRedirect(cmd.Context(), args[0])
		}))
}

func recordCommand() *cobra.Command {
	var ttl int
	add := &cobra.Command{Use: "add ZONE NAME TYPE DATA", Short: "Put a record into a zone, its data as in a zone file",
		Args: cobra.ExactArgs(4),
		Example: `  inkpost record add isles.saltmarsh.example isles.saltmarsh.example MX "10 mail.saltmarsh.example."
  inkpost record add isles.saltmarsh.example _sip._tcp.isles.saltmarsh.example SRV "0 5 5060 ket-07.isles.saltmarsh.example."`,
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			in := contract.RecordInput{Name: names.Name(args[1]), Type: args[2], Data: args[3]}
			if cmd.Flags().Changed("ttl") {
				in.TTL = &ttl
			}
			r, err := c.AddZoneRecord(cmd.Context(), args[0], in)
			if err == nil {
				say(cmd, "Record %d: %s %d %s %s", r.ID, r.Name, r.TTL, r.Type, r.Data)
			}
			return err
		})}
	add.Flags().IntVar(&ttl, "ttl", 0, "how many seconds a resolver may keep the answer (default: the zone's)")
	list := &cobra.Command{Use: "list ZONE", Short: "List the records put into a zone", Args: cobra.ExactArgs(1),
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			rows, err := c.ZoneRecords(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return show(cmd, rows,
				column[contract.ZoneRecord]{title: "record", text: func(r contract.ZoneRecord) string { return fmt.Sprint(r.ID) }},
				column[contract.ZoneRecord]{title: "name", text: func(r contract.ZoneRecord) string { return string(r.Name) },
					tone: func(contract.ZoneRecord) tone { return strong }},
				column[contract.ZoneRecord]{title: "ttl", text: func(r contract.ZoneRecord) string { return count(r.TTL) }},
				column[contract.ZoneRecord]{title: "type", text: func(r contract.ZoneRecord) string { return r.Type }},
				column[contract.ZoneRecord]{title: "data", text: func(r contract.ZoneRecord) string { return r.Data }})
		})}
	return group("record", "Records of a zone beside hostnames and aliases", add, list,
		removal("remove ZONE RECORD", "Remove a record from a zone", 2,
			func(cmd *cobra.Command, c *client.Client, args []string) (string, error) {
				id, err := strconv.ParseInt(args[1], 10, 64)
				if err != nil {
					return "", usagef("%q is not the number of a record; inkpost record list shows them", args[1])
				}
				return "Record " + args[1] + " is removed.", c.RemoveZoneRecord(cmd.Context(), args[0], id)
			}))
}

func signingKeyCommand() *cobra.Command {
	var in contract.SigningKeyInput
	add := &cobra.Command{Use: "add NAME", Short: "Make a TSIG key and show its secret", Args: cobra.ExactArgs(1),
		Long: `Make a TSIG key (RFC 8945), or record one of somebody's primary with --secret-file. Without --site
it is for zone transfers (inkpost zone edit --transfer-key) or for pushes to a remote zone's
primary (--primary-key). With --site its holder may update that site's own hostnames.`,
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			in.Name = args[0]
			k, err := c.AddSigningKey(cmd.Context(), in)
			if err != nil {
				return err
			}
			return showOne(cmd, k,
				column[contract.SigningKey]{title: "name", text: func(k contract.SigningKey) string { return k.Name }},
				column[contract.SigningKey]{title: "algorithm", text: func(k contract.SigningKey) string { return k.Algorithm }},
				column[contract.SigningKey]{title: "secret", text: func(k contract.SigningKey) string { return k.Secret },
					tone: func(contract.SigningKey) tone { return strong }})
		})}
	var file string
	may := prefixFlag(add)
	allow := &cobra.Command{Use: "allow NAME [PREFIX...]",
		Short: "Set which addresses updates with a key may set besides their sender's", Args: cobra.MinimumNArgs(1),
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			list, err := prefixes(args[1:])
			if err != nil {
				return err
			}
			if err := c.AllowSigningKey(cmd.Context(), args[0], list...); err != nil {
				return err
			}
			say(cmd, "Updates with %s may set %s.", args[0], allowed(list))
			return nil
		})}
	add.PreRunE = func(*cobra.Command, []string) (err error) {
		if in.MayAnnounce, err = may(); err != nil || file == "" {
			return err
		}
		text, err := os.ReadFile(file)
		in.Secret = strings.TrimSpace(string(text))
		return err
	}
	add.Flags().StringVar(&file, "secret-file", "", "a file with the secret in base64, if the key was made elsewhere")
	add.Flags().StringVar(&in.Algorithm, "algorithm", "", "hmac-sha256 (default) or hmac-sha512")
	add.Flags().StringVar(&in.Site, "site", "", "the site whose hostnames its holder may update")
	list := &cobra.Command{Use: "list", Short: "List TSIG keys", Args: cobra.NoArgs,
		RunE: with(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			rows, err := c.SigningKeys(cmd.Context())
			if err != nil {
				return err
			}
			return show(cmd, rows,
				column[contract.SigningKey]{title: "signing key", text: func(k contract.SigningKey) string { return k.Name },
					tone: func(contract.SigningKey) tone { return strong }},
				column[contract.SigningKey]{title: "algorithm", text: func(k contract.SigningKey) string { return k.Algorithm }},
				column[contract.SigningKey]{title: "for", text: func(k contract.SigningKey) string {
					if k.Site == "" {
						return "zone transfers and pushes"
					}
					return "updates of " + k.Site
				}},
				column[contract.SigningKey]{title: "made", text: func(k contract.SigningKey) string { return ago(k.Created) },
					machine: func(k contract.SigningKey) string { return stamp(k.Created) }})
		})}
	return group("signing-key", "TSIG keys for zone transfers and DNS updates", add, allow, list,
		removal("remove NAME", "Remove a TSIG key", 1, func(cmd *cobra.Command, c *client.Client, args []string) (string, error) {
			return "Signing key " + args[0] + " is removed.", c.RemoveSigningKey(cmd.Context(), args[0])
		}))
}
