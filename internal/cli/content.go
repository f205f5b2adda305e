package cli

import (
	"fmt"
	"strconv"

	"github.com/spf13/cobra"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/site"
)

func aliasCommand() *cobra.Command {
	var in contract.AliasInput
	add := &cobra.Command{Use: "add NAME HOSTNAME", Short: "Let a name stand for a hostname", Args: cobra.ExactArgs(2),
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
				column[site.Alias]{title: "alias", text: func(a site.Alias) string { return string(a.Name) }, tone: func(site.Alias) tone { return strong }},
				column[site.Alias]{title: "stands for", text: func(a site.Alias) string { return string(a.Hostname) }},
				column[site.Alias]{title: "site", text: func(a site.Alias) string { return a.Site }},
				column[site.Alias]{title: "ttl", text: func(a site.Alias) string { return fmt.Sprintf("%d s", a.TTL) }, machine: func(a site.Alias) string { return count(a.TTL) }})
		})}
	return group("alias", "Names that stand for hostnames", add, list,
		removal("remove NAME", "Remove an alias", 1, func(cmd *cobra.Command, c *client.Client, args []string) (string, error) {
			return "Alias " + args[0] + " is removed.", c.RemoveAlias(cmd.Context(), args[0])
		}))
}

func recordCommand() *cobra.Command {
	var ttl int
	add := &cobra.Command{Use: "add ZONE NAME TYPE DATA", Short: "Put a record into a zone, its data as in a zone file", Args: cobra.ExactArgs(4),
		Example: `  inkpost record add isles.saltmarsh.example isles.saltmarsh.example MX "10 mail.saltmarsh.example."
  inkpost record add isles.saltmarsh.example _sip._tcp.isles.saltmarsh.example SRV "0 5 5060 ket-07.isles.saltmarsh.example."`,
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			r, err := c.AddZoneRecord(cmd.Context(), args[0], names.Record{Name: names.Name(args[1]), Type: args[2], TTL: ttl, Data: args[3]})
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
				column[contract.ZoneRecord]{title: "name", text: func(r contract.ZoneRecord) string { return string(r.Name) }, tone: func(contract.ZoneRecord) tone { return strong }},
				column[contract.ZoneRecord]{title: "ttl", text: func(r contract.ZoneRecord) string { return count(r.TTL) }},
				column[contract.ZoneRecord]{title: "type", text: func(r contract.ZoneRecord) string { return r.Type }},
				column[contract.ZoneRecord]{title: "data", text: func(r contract.ZoneRecord) string { return r.Data }})
		})}
	return group("record", "Records of a zone beside hostnames and aliases", add, list,
		removal("remove ZONE RECORD", "Remove a record from a zone", 2, func(cmd *cobra.Command, c *client.Client, args []string) (string, error) {
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
		Long: `Make a TSIG key (RFC 8945). Without --site it is for zone transfers: name it in the zone with
inkpost zone edit --transfer-key. With --site its holder may update that site's own hostnames.`,
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			in.Name = args[0]
			k, err := c.AddSigningKey(cmd.Context(), in)
			if err != nil {
				return err
			}
			return showOne(cmd, k,
				column[contract.SigningKey]{title: "name", text: func(k contract.SigningKey) string { return k.Name }},
				column[contract.SigningKey]{title: "algorithm", text: func(k contract.SigningKey) string { return k.Algorithm }},
				column[contract.SigningKey]{title: "secret", text: func(k contract.SigningKey) string { return k.Secret }, tone: func(contract.SigningKey) tone { return strong }})
		})}
	add.Flags().StringVar(&in.Algorithm, "algorithm", "", "hmac-sha256 (default) or hmac-sha512")
	add.Flags().StringVar(&in.Site, "site", "", "the site whose hostnames its holder may update")
	list := &cobra.Command{Use: "list", Short: "List TSIG keys", Args: cobra.NoArgs,
		RunE: with(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			rows, err := c.SigningKeys(cmd.Context())
			if err != nil {
				return err
			}
			return show(cmd, rows,
				column[contract.SigningKey]{title: "signing key", text: func(k contract.SigningKey) string { return k.Name }, tone: func(contract.SigningKey) tone { return strong }},
				column[contract.SigningKey]{title: "algorithm", text: func(k contract.SigningKey) string { return k.Algorithm }},
				column[contract.SigningKey]{title: "for", text: func(k contract.SigningKey) string {
					if k.Site == "" {
						return "zone transfers"
					}
					return "updates of " + k.Site
				}},
				column[contract.SigningKey]{title: "made", text: func(k contract.SigningKey) string { return ago(k.Created) }, machine: func(k contract.SigningKey) string { return stamp(k.Created) }})
		})}
	return group("signing-key", "TSIG keys for zone transfers and DNS updates", add, list,
		removal("remove NAME", "Make a TSIG key unknown", 1, func(cmd *cobra.Command, c *client.Client, args []string) (string, error) {
			return "Signing key " + args[0] + " is removed.", c.RemoveSigningKey(cmd.Context(), args[0])
		}))
}
