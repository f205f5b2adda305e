package command

import (
	_ "embed" // the unit
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"
	"go.yaml.in/yaml/v3"

	"inkpost.example/inkpost/internal/agent"
)

// unit is the systemd unit: a user of its own, a file system that it cannot write but for its state, and no right beyond listening on
// low ports while a path is proven, and asking the LAN who has an address. A package brings it as it is.
//
//go:embed inkpost-agent.service
var unit string

// packaged is where a package puts the unit, and packagedProgram what is started there.
const (
	packaged        = "/lib/systemd/system/inkpost-agent.service"
	packagedProgram = "/usr/bin/inkpost-agent"
)

// Install is the command that has the agent run from now on, and at every start of the machine.
func Install(version string) *cobra.Command {
	var s setting
	var root string
	var remove bool
	c := &cobra.Command{Use: "install", Short: "Install the agent on this machine as a service (systemd)", Args: cobra.NoArgs,
		Long: `Enrol the agent, write its configuration and a systemd unit, and start it. It runs as a user of its
own with a read-only file system. --remove undoes all of it but the key's revocation.`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			at := func(path string) string { return filepath.Join(root, path) }
			if root == "" && os.Geteuid() != 0 {
				return usagef("only root may install a service; run it with sudo, or run the agent yourself: inkpost agent run")
			}
			if remove {
				return uninstall(cmd, root)
			}
			config, err := s.read(cmd)
			if err != nil {
				return err
			}
			config.State = ""
			o, err := config.options()
			if err != nil {
				return err
			}
			o.StateDir, o.Version = at("/var/lib/inkpost-agent"), version
			if o.Log, err = logger(cmd.ErrOrStderr(), "warn"); err != nil {
				return err
			}
			// Enrolled first: nothing is left behind where that fails.
			if err := agent.Enrol(cmd.Context(), o); err != nil {
				return err
			}
			program, err := os.Executable()
			if err != nil {
				return err
			}
			if filepath.Base(program) == "inkpost" {
				program += " agent"
			}
			config.Code = ""
			for i := range config.Links {
				config.Links[i].Code = ""
			}
			doc, err := yaml.Marshal(config)
			if err != nil {
				return err
			}
			files := map[string]string{"/etc/inkpost-agent.yaml": string(doc)}
			if _, err := os.Stat(at(packaged)); err != nil || program != packagedProgram {
				files["/etc/systemd/system/inkpost-agent.service"] = strings.Replace(unit, packagedProgram, program, 1)
			}
			for path, content := range files {
				if err := os.MkdirAll(filepath.Dir(at(path)), 0o755); err != nil {
					return err
				}
				if err := os.WriteFile(at(path), []byte(content), 0o644); err != nil { // no secret is in either
					return err
				}
				_, _ = fmt.Fprintln(cmd.OutOrStdout(), "wrote", at(path))
			}
			if root != "" {
				return nil
			}
			return systemctl(cmd, []string{"daemon-reload"}, []string{"enable", "--now", "inkpost-agent.service"})
		}}
	s.flags(c)
	c.Flags().StringVar(&root, "root", "", "write below this folder and start nothing, to prepare an image of a disk")
	c.Flags().BoolVar(&remove, "remove", false, "stop the agent and remove it from this machine")
	return c
}

func uninstall(cmd *cobra.Command, root string) error {
	if root == "" {
		if err := systemctl(cmd, []string{"disable", "--now", "inkpost-agent.service"}); err != nil {
			return err
		}
	}
	for _, path := range []string{"/etc/systemd/system/inkpost-agent.service", "/etc/inkpost-agent.yaml", "/var/lib/inkpost-agent",
		"/var/lib/private/inkpost-agent"} {
		if err := os.RemoveAll(filepath.Join(root, path)); err != nil {
			return err
		}
	}
	_, _ = fmt.Fprintln(cmd.OutOrStdout(), "The agent is removed. Revoke its key too: inkpost key list, inkpost key revoke KEY.")
	return nil
}

func systemctl(cmd *cobra.Command, calls ...[]string) error {
	for _, args := range calls {
		out, err := exec.CommandContext(cmd.Context(), "systemctl", args...).CombinedOutput()
		if err != nil {
			return fmt.Errorf("systemctl %s: %w %s; the files are written, start it by hand", strings.Join(args, " "), err,
				strings.TrimSpace(string(out)))
		}
	}
	_, _ = fmt.Fprintln(cmd.OutOrStdout(), "done: systemctl", strings.Join(calls[len(calls)-1], " "))
	return nil
}
