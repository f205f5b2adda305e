// Package command is the agent's part of the command line: of the whole program, and of the small one that is the agent alone.
package command

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/netip"
	"os"
	"path/filepath"
	"time"

	"go.yaml.in/yaml/v3"

	"inkpost.example/inkpost/internal/agent"
	"inkpost.example/inkpost/internal/core/wan"
)

// Config is the agent's configuration file, in YAML. A flag, or a variable of the environment, takes the place of its field.
type Config struct {
	// Server is the URL of the server. Required to enrol; later the state has it.
	Server string `yaml:"server,omitempty"`
	// Code is the one-time code. Required to enrol.
	Code string `yaml:"code,omitempty"`
	// State is the folder in which the agent keeps its key. Default: DefaultState.
	State string `yaml:"state,omitempty"`
	// Sources are the ways of learning the address, the most trusted first: observed, stun, gateway, interface, fixed. Default: those
	// that are set for the link at the server, else all.
	Sources []string `yaml:"sources,omitempty"`
	// STUN lists further STUN servers, "host:port". Default: the server's own alone.
	STUN []string `yaml:"stun,omitempty"`
	// Fixed are addresses that never change, at most one of each family. Default: none.
	Fixed []string `yaml:"fixed,omitempty"`
	// Interface is the name of the interface whose address is reported. Default: that of the default route.
	Interface string `yaml:"interface,omitempty"`
	// Gateway is the router's LAN address. Default: that of the default route.
	Gateway string `yaml:"gateway,omitempty"`
	// Links are the links of an agent with several interfaces; each enrols on its own. Default: one link.
	Links []LinkConfig `yaml:"links,omitempty"`
	// After is a command, with its arguments, to run after a change. Default: none.
	After []string `yaml:"after,omitempty"`
	// AfterLimit is how long the command may run, up to 10m. Default: 30s.
	AfterLimit time.Duration `yaml:"after_limit,omitempty"`
	// LogLevel is debug, info, warn or error. Default: info.
	LogLevel string `yaml:"log_level,omitempty"`
}

// LinkConfig is one link of an agent with several interfaces.
type LinkConfig struct {
	// Interface is the name of the link's interface. Required.
	Interface string `yaml:"interface"`
	// Code is the link's one-time code. Required to enrol.
	Code string `yaml:"code,omitempty"`
	// Sources are those of the link, as in Config. Default: those of Config.
	Sources []string `yaml:"sources,omitempty"`
}

// DefaultConfig is where the configuration is looked for.
func DefaultConfig() string {
	if os.Geteuid() == 0 {
		return "/etc/inkpost-agent.yaml"
	}
	dir, err := os.UserConfigDir()
	if err != nil {
		return "inkpost-agent.yaml"
	}
	return filepath.Join(dir, "inkpost", "agent.yaml")
}

// DefaultState is where the agent keeps its key.
func DefaultState() string {
	if os.Geteuid() == 0 {
		return "/var/lib/inkpost-agent"
	}
	dir, err := os.UserConfigDir()
	if err != nil {
		return "inkpost-agent"
	}
	return filepath.Join(dir, "inkpost", "agent")
}

// Read reads a configuration. A file that is not there is an empty one, unless it has to be. Error: UsageError.
func Read(path string, needed bool) (Config, error) {
	doc, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) && !needed {
		return Config{}, nil
	}
	if err != nil {
		return Config{}, fmt.Errorf("configuration: %w", err)
	}
	var c Config
	d := yaml.NewDecoder(bytes.NewReader(doc))
	d.KnownFields(true)
	if err := d.Decode(&c); err != nil && !errors.Is(err, io.EOF) {
		return c, fmt.Errorf("configuration %s: %w", path, err)
	}
	return c, nil
}

// options checks a configuration and turns it into what the agent runs with.
func (c Config) options() (agent.Options, error) {
	o := agent.Options{Server: c.Server, Code: c.Code, StateDir: c.State, Sources: c.Sources, STUN: c.STUN, After: c.After,
		AfterLimit: c.AfterLimit}
	if o.StateDir == "" {
		o.StateDir = DefaultState()
	}
	check := func(list []string) error {
		for _, s := range list {
			if _, err := wan.ParseSource(s); err != nil {
				return usagef("%v", err)
			}
		}
		return nil
	}
	if err := check(c.Sources); err != nil {
		return o, err
	}
	for _, text := range c.Fixed {
		a, err := netip.ParseAddr(text)
		if err != nil {
			return o, usagef("fixed: %q is not an IP address", text)
		}
		o.Fixed = append(o.Fixed, a.Unmap())
	}
	if c.Gateway != "" {
		a, err := netip.ParseAddr(c.Gateway)
		if err != nil {
			return o, usagef("gateway: %q is not an IP address", c.Gateway)
		}
		o.Network.Gateway = a.Unmap()
	}
	o.Network.Interface = c.Interface
	seen := map[string]bool{}
	for i, l := range c.Links {
		if l.Interface == "" || seen[l.Interface] {
			return o, usagef("links: entry %d needs an interface of its own", i+1)
		}
		seen[l.Interface] = true
		if err := check(l.Sources); err != nil {
			return o, err
		}
		o.Links = append(o.Links, agent.LinkOptions{Interface: l.Interface, Code: l.Code, Sources: l.Sources})
	}
	if c.AfterLimit < 0 || c.AfterLimit > 10*time.Minute {
		return o, usagef("after_limit: %s is out of range; up to 10m", c.AfterLimit)
	}
	return o, nil
}
