//go:build !linux

package command

import (
	"context"
	"fmt"
	"sync"

	"github.com/kardianos/service"
	"github.com/spf13/cobra"

	"inkpost.example/inkpost/internal/agent"
)

// program lets the system's service manager start and stop the agent.
type program struct {
	run  func(context.Context) error
	stop context.CancelFunc
	done sync.WaitGroup
}

// Start implements service.Interface.
func (p *program) Start(service.Service) error {
	ctx, stop := context.WithCancel(context.Background())
	p.stop = stop
	p.done.Go(func() { _ = p.run(ctx) })
	return nil
}

// Stop implements service.Interface.
func (p *program) Stop(service.Service) error {
	p.stop()
	p.done.Wait()
	return nil
}

// Install is the command that has the agent run from now on, by the system's service manager.
func Install(version string) *cobra.Command {
	var s setting
	var remove, serve bool
	c := &cobra.Command{Use: "install", Short: "Install the agent on this machine as a service (the system's service manager)",
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			p := &program{run: func(ctx context.Context) error { return runAgent(ctx, cmd, &s, version) }}
			managed, err := service.New(p, &service.Config{Name: "inkpost-agent", DisplayName: "Ink Post agent",
				Description: "Announces this site's address",
				Arguments:   []string{"install", "--serve", "--config", s.file, "--state", s.config.State}})
			if err != nil {
				return err
			}
			switch {
			case serve:
				return managed.Run()
			case remove:
				_ = managed.Stop()
				return managed.Uninstall()
			}
			config, err := s.read(cmd)
			if err != nil {
				return err
			}
			o, err := config.options()
			if err != nil {
				return err
			}
			if err := agent.Enrol(cmd.Context(), o); err != nil {
				return err
			}
			if err := managed.Install(); err != nil {
				return err
			}
			_, _ = fmt.Fprintln(cmd.OutOrStdout(), "installed as the service inkpost-agent")
			return managed.Start()
		}}
	s.flags(c)
	c.Flags().BoolVar(&remove, "remove", false, "stop the agent and remove it from this machine")
	c.Flags().BoolVar(&serve, "serve", false, "what the service manager starts")
	_ = c.Flags().MarkHidden("serve")
	return c
}
