package cli

import (
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
		recordRemoval("remove SITE NAME", "Remove a device that no service is on", "device", 2,
			func(cmd *cobra.Command, c *client.Client, args []string) error {
				return c.RemoveDevice(cmd.Context(), args[0], args[1])
			}))
}
