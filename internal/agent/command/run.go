package command

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"os/signal"
	"syscall"

	"github.com/spf13/cobra"

	"inkpost.example/inkpost/internal/agent"
)

// UsageError reports a command line, or a configuration, that is wrongly typed.
type UsageError struct{ error }

func usagef(format string, args ...any) error { return UsageError{fmt.Errorf(format, args...)} }

// setting is what the flags say.
type setting struct {
	config Config
	file   string
}

// flags are those that take the place of a field of the configuration.
func (s *setting) flags(c *cobra.Command) {
	f := c.Flags()
	f.StringVar(&s.file, "config", DefaultConfig(), "the configuration file")
	f.StringVar(&s.config.Code, "code", "", "the one-time code that inkpost agent invite prints; needed once")
	f.StringVar(&s.config.State, "state", DefaultState(), "where the agent keeps its key")
	f.StringSliceVar(&s.config.Sources, "source", nil,
		"a source of the address, the most trusted first: observed, stun, gateway, interface or fixed; give it again for each")
	f.StringSliceVar(&s.config.STUN, "stun", nil, "HOST:PORT of a further STUN server; give it again for each")
	f.StringSliceVar(&s.config.Fixed, "fixed", nil, "an address that the provider has fixed, for the source fixed")
	f.StringVar(&s.config.Interface, "interface", "", "the network interface of the link")
	f.StringVar(&s.config.Gateway, "gateway", "", "the router's LAN address (default: the default route's)")
	f.StringArrayVar(&s.config.After, "after", nil, "a command to run after a change; give it again for each of its arguments")
	f.DurationVar(&s.config.AfterLimit, "after-limit", 0, "how long that command may run (default 30s)")
	f.StringVar(&s.config.LogLevel, "log-level", "info", "debug, info, warn or error")
}

// read reads the file, and puts what was given on the command line in its place.
func (s *setting) read(c *cobra.Command) (Config, error) {
	out, err := Read(s.file, c.Flags().Changed("config"))
	if err != nil {
		return out, err
	}
	if server, _ := c.Flags().GetString("server"); server != "" {
		out.Server = server
	}
	given := func(flag string) bool { return c.Flags().Changed(flag) }
	for flag, f := range map[string]struct{ to, from *string }{"code": {&out.Code, &s.config.Code}, "state": {&out.State, &s.config.State},
		"interface": {&out.Interface, &s.config.Interface}, "gateway": {&out.Gateway, &s.config.Gateway},
		"log-level": {&out.LogLevel, &s.config.LogLevel}} {
		if given(flag) || *f.to == "" {
			*f.to = *f.from
		}
	}
	for flag, f := range map[string]struct{ to, from *[]string }{"source": {&out.Sources, &s.config.Sources},
		"stun":  {&out.STUN, &s.config.STUN},
		"fixed": {&out.Fixed, &s.config.Fixed}, "after": {&out.After, &s.config.After}} {
		if given(flag) {
			*f.to = *f.from
		}
	}
	if given("after-limit") {
		out.AfterLimit = s.config.AfterLimit
	}
	return out, nil
}

func logger(w io.Writer, level string) (*slog.Logger, error) {
	var l slog.Level
	if err := l.UnmarshalText([]byte(level)); err != nil {
		return nil, usagef("--log-level %q is unknown; it is debug, info, warn or error", level)
	}
	return slog.New(slog.NewTextHandler(w, &slog.HandlerOptions{Level: l})), nil
}

// Run is the command that runs the agent.
func Run(version string) *cobra.Command {
	var s setting
	c := &cobra.Command{Use: "run", Short: "Run the agent on a machine at the site", Args: cobra.NoArgs,
		Long: `Run the agent on any always-on machine at the site. The first time it needs --server and the
one-time --code that inkpost agent invite prints; it keeps its key in --state. What is not given
is taken from the environment (INKPOST_CODE for --code) or from the file --config. On SIGHUP the
file is read anew.`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			ctx, stop := signal.NotifyContext(cmd.Context(), syscall.SIGINT, syscall.SIGTERM)
			defer stop()
			return runAgent(ctx, cmd, &s, version)
		}}
	s.flags(c)
	return c
}

// runAgent runs the agent until ctx ends, and again with a configuration that was read anew.
func runAgent(ctx context.Context, cmd *cobra.Command, s *setting, version string) error {
	load := func() (agent.Options, error) {
		config, err := s.read(cmd)
		if err != nil {
			return agent.Options{}, err
		}
		o, err := config.options()
		if err != nil {
			return o, err
		}
		o.Version = version
		o.Log, err = logger(cmd.ErrOrStderr(), config.LogLevel)
		return o, err
	}
	o, err := load()
	if err != nil {
		return err
	}
	reload, asked := make(chan agent.Options), make(chan os.Signal, 1)
	signal.Notify(asked, reloadSignals...)
	defer signal.Stop(asked)
	o.Reload = reload
	go func() {
		for {
			select {
			case <-asked:
			case <-ctx.Done():
				return
			}
			next, err := load()
			if err != nil {
				o.Log.Error("the configuration is wrong; the agent goes on with the one before", "error", err)
				continue
			}
			select {
			case reload <- next:
			case <-ctx.Done():
				return
			}
		}
	}()
	err = agent.Run(ctx, o)
	if ctx.Err() != nil && errors.Is(err, ctx.Err()) {
		return nil
	}
	return err
}
