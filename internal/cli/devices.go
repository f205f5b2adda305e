package cli

import (
	"bytes"
	"fmt"
	"github.com/spf13/cobra"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/site"
)

func deviceColumns() []column[site.Device] {
	return []column[site.Device]{
		{title: "device", text: func(d site.Device) string { return d.Name }, tone: func(site.Device) tone { return strong }},
		{title: "lan address", text: func(d site.Device) string { return d.Address.String() }},
		{title: "mac", text: func(d site.Device) string { return orDash(d.MAC) }},
		{title: "reserved", text: func(d site.Device) string { return yes(d.Reserved) }},
	}
}

func deviceCommand() *cobra.Command {
	var in contract.DeviceInput
	add := &cobra.Command{Use: "add SITE NAME --lan-address ADDRESS", Short: "Put a machine on a site's LAN on record",
		Args: cobra.ExactArgs(2),
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			in.Name = args[1]
			d, err := c.AddDevice(cmd.Context(), args[0], in)
			if err == nil {
				say(cmd, "Device %s of %s is on record at %s.", d.Name, args[0], d.Address)
			}
			return err
		})}
	edit := &cobra.Command{Use: "edit SITE NAME", Short: "Change a device", Args: cobra.ExactArgs(2),
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			f, err := given(cmd, map[string]string{"name": "name", "mac": "mac", "lan-address": "lan_address", "reserved": "reserved",
				"router": "router"})
			if err != nil {
				return err
			}
			d, err := c.EditDevice(cmd.Context(), args[0], args[1], f)
			if err == nil {
				say(cmd, "Device %s of %s is changed.", d.Name, args[0])
			}
			return err
		})}
	edit.Flags().String("name", "", "the new name")
	for _, c := range []*cobra.Command{add, edit} {
		c.Flags().StringVar(&in.Address, "lan-address", "", "its address on the LAN")
		c.Flags().StringVar(&in.MAC, "mac", "", "its MAC address")
		c.Flags().BoolVar(&in.Reserved, "reserved", false, "the router always gives it this address")
		c.Flags().BoolVar(&in.Router, "router", false, "it is the site's router")
	}
	list := &cobra.Command{Use: "list SITE", Short: "List a site's devices", Args: cobra.ExactArgs(1),
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			rows, err := c.Devices(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return show(cmd, rows, deviceColumns()...)
		})}
	one := &cobra.Command{Use: "show SITE NAME", Short: "Show a device", Args: cobra.ExactArgs(2),
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			d, err := c.Device(cmd.Context(), args[0], args[1])
			if err != nil {
				return err
			}
			return showOne(cmd, d, deviceColumns()...)
		})}
	return group("device", "Machines on sites' LANs", add, list, one, edit,
		foundCommand(), recordRemoval("remove SITE NAME", "Remove a device that no service is on", "device", 2,
			func(cmd *cobra.Command, c *client.Client, args []string) error {
				return c.RemoveDevice(cmd.Context(), args[0], args[1])
			}))
}

// foundCommand reads what a router knows of its LAN.
func foundCommand() *cobra.Command {
	var add bool
	c := &cobra.Command{Use: "found SITE FILE", Short: "Read a router's list of its LAN, and say which devices are on record",
		Args: cobra.ExactArgs(2),
		Long: "Read a list of devices as a router prints it: the leases of ISC DHCP (dhcpd.leases) or dnsmasq (dnsmasq.leases), or what\n" +
			"ip neigh or arp -a prints; - reads what comes in. --add puts those on record that are not there yet.",
		Example: "  ssh router cat /tmp/dhcp.leases | inkpost device found KET-07 -\n  inkpost device found KET-07 dhcpd.leases --add",
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			text, err := readFile(cmd, args[1])
			if err != nil {
				return err
			}
			list, err := c.LANList(cmd.Context(), args[0], bytes.NewReader(text))
			if err != nil {
				return err
			}
			if err := show(cmd, list.Devices,
				column[contract.ListedHost]{title: "mac", text: func(h contract.ListedHost) string { return h.MAC }},
				column[contract.ListedHost]{title: "lan address", text: func(h contract.ListedHost) string { return h.Address }},
				column[contract.ListedHost]{title: "on record", text: recordedAs, tone: func(h contract.ListedHost) tone {
					return map[bool]tone{true: unsettled}[h.Device != "" && h.Recorded != h.Address]
				}},
				column[contract.ListedHost]{title: "could be", text: func(h contract.ListedHost) string {
					return map[bool]string{true: h.Suggested.Name, false: "-"}[h.Device == ""]
				}}); err != nil {
				return err
			}
			for _, h := range list.Devices {
				if !add || h.Device != "" {
					continue
				}
				if _, err := c.AddDevice(cmd.Context(), args[0], h.Suggested); err != nil {
					return fmt.Errorf("%s: %w", h.Suggested.Name, err)
				}
				say(cmd, "Device %s of %s is on record.", h.Suggested.Name, args[0])
			}
			return nil
		})}
	c.Flags().BoolVar(&add, "add", false, "put those on record that are not there yet")
	return c
}

// recordedAs says which device of the record something is, and whether it is elsewhere there.
func recordedAs(h contract.ListedHost) string {
	switch {
	case h.Device == "":
		return "no"
	case h.Recorded != h.Address:
		return h.Device + ", at " + h.Recorded
	}
	return h.Device
}
