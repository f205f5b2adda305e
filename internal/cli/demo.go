package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"inkpost.example/inkpost/docs"
	"inkpost.example/inkpost/internal/demo"
	"inkpost.example/inkpost/web"
)

func demoCommand() *cobra.Command {
	o := demo.Options{}
	var level string
	c := &cobra.Command{
		Use: "demo", Short: "Run everything on this machine: ten made-up sites on simulated routers", Args: cobra.NoArgs,
		Long: `Run Ink Post with a private PostgreSQL and a simulated world: providers, routers and devices on
loopback addresses, with a real agent behind each router. inkpost lab changes that world.`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			var err error
			if o.Log, err = logger(cmd.ErrOrStderr(), level, "text"); err != nil {
				return err
			}
			o.Console, o.Docs, o.Version, o.Say = web.Console(), docs.Files(), Version, cmd.OutOrStdout()
			kept, err := readLogins()
			if err != nil {
				return err
			}
			of, _ := kept.at("http://" + o.HTTP)
			o.Key = of.Key
			ctx, stop := interrupted(cmd)
			defer stop()
			d, err := demo.Start(ctx, o)
			if err != nil {
				return err
			}
			defer d.Stop()
			file, err := keepLogin(login{Server: d.URL, Name: d.Owner, Key: d.Key})
			if err != nil {
				say(cmd, "The command line could not be logged in: %v", err)
			}
			guide(cmd, d, file, !o.Healthy)
			err = d.Wait(ctx)
			say(cmd, "Stopping.")
			return err
		},
	}
	f := c.Flags()
	f.StringVar(&o.Dir, "data", demo.DefaultDir(), "where the demo keeps its database")
	f.BoolVar(&o.Healthy, "healthy", false, "begin with nothing wrong anywhere; otherwise seven of the ten sites are in trouble")
	f.IntVar(&o.Sites, "sites", 0,
		"how many sites there are in all, such as 2000: beside the ten, a crowd of plain ones with a year's past")
	f.BoolVar(&o.Fresh, "fresh", false, "forget what an earlier demo kept")
	f.StringVar(&o.HTTP, "http", defaultHTTP, "address of the API and console")
	f.StringVar(&o.DNS, "dns", defaultDNS, "address of the name server, UDP and TCP")
	f.StringVar(&o.Redirect, "redirect", defaultRedirect, "address at which browsers are sent on")
	f.StringVar(&o.STUN, "stun", defaultSTUN, "address of the STUN responder")
	f.StringVar(&level, "log-level", "warn", "debug, info, warn or error")
	return c
}

func guide(cmd *cobra.Command, d *demo.Demo, file string, troubled bool) {
	host, port, _ := strings.Cut(d.DNS, ":")
	say(cmd, "\nInk Post runs.\n")
	say(cmd, "  Console    %s", d.URL)
	if d.Password != "" {
		say(cmd, "  Sign in    name %s, one-time password %s", d.Owner, d.Password)
	} else {
		say(cmd, "  Sign in    name %s, with the password you chose (forget everything: inkpost demo --fresh)", d.Owner)
	}
	if file != "" {
		say(cmd, "  Commands   this account is logged in (%s)", file)
	}
	if troubled {
		say(cmd, "\nSeven of the ten sites are in trouble; within half a minute the console says why. To repair one:\n")
		for _, t := range demo.Troubled() {
			say(cmd, "  bin/inkpost lab mend %s    %s", t[0], t[1])
		}
	}
	say(cmd, "\nTry, in another terminal:\n")
	for _, line := range []string{
		"bin/inkpost overview",
		"bin/inkpost why CLI-05",
		fmt.Sprintf("dig @%s -p %s +short ket-07.isles.saltmarsh.example", host, port),
		"bin/inkpost lab renumber KET-07",
		"bin/inkpost moves --limit 3",
		"bin/inkpost lab forward remove KET-07 playback",
		"bin/inkpost zone pushes quay.saltmarsh.example",
		"bin/inkpost lab primary stop",
	} {
		say(cmd, "  %s", line)
	}
	say(cmd, "\nStop with Ctrl-C.")
}
