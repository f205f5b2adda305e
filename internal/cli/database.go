package cli

import "github.com/spf13/cobra"

// database says which database a command works on that needs no server.
type database struct{ url, config string }

// flags puts the flags on a command; meant completes what --database-url is.
func (d *database) flags(c *cobra.Command, meant string) {
	c.Flags().StringVar(&d.url, "database-url", "", meant)
	c.Flags().StringVar(&d.config, "config", "", "the server's configuration file, which names it: /etc/inkpost/serve.yaml")
}

// at returns the database's URL; "" where none is said. Errors: those of the configuration file.
func (d *database) at() (string, error) {
	if d.url != "" || d.config == "" {
		return d.url, nil
	}
	serve := serveCommand()
	if err := fromFile(serve, d.config); err != nil {
		return "", err
	}
	return serve.Flags().GetString("database-url")
}

// needed returns the database's URL, which has to be said.
func (d *database) needed(example string) (string, error) {
	url, err := d.at()
	if err == nil && url == "" {
		err = usagef("--database-url is required%s; or --config, the server's file", example)
	}
	return url, err
}
