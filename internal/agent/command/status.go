package command

import (
	"encoding/json"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"inkpost.example/inkpost/internal/agent"
	"inkpost.example/inkpost/internal/contract"
)

// Status is the command that says what the agent on this machine knows.
func Status() *cobra.Command {
	var state string
	var asJSON bool
	c := &cobra.Command{Use: "status", Short: "Show what the agent on this machine knows, and what the server answered", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			list, err := agent.ReadStatus(state)
			if err != nil {
				return err
			}
			if format, err := cmd.Flags().GetString("format"); asJSON || err == nil && format == "json" {
				e := json.NewEncoder(cmd.OutOrStdout())
				e.SetIndent("", "  ")
				return e.Encode(list)
			}
			for i, s := range list {
				if i > 0 {
					_, _ = fmt.Fprintln(cmd.OutOrStdout())
				}
				describe(cmd.OutOrStdout(), s, time.Now())
			}
			return nil
		}}
	c.Flags().StringVar(&state, "state", DefaultState(), "where the agent keeps its key")
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return c
}

func describe(w io.Writer, s agent.Status, now time.Time) {
	line := func(title, format string, args ...any) {
		_, _ = fmt.Fprintf(w, "%-12s %s\n", title, fmt.Sprintf(format, args...))
	}
	since := func(t time.Time) string {
		if t.IsZero() {
			return "never"
		}
		return now.Sub(t).Round(time.Second).String() + " ago"
	}
	line("site", "%s, link %s", s.Site, s.Link)
	line("server", "%s", s.Server)
	if alive := now.Sub(s.Written); alive > 10*time.Minute {
		line("agent", "has not written for %s: it does not run", alive.Round(time.Second))
	} else {
		line("agent", "%s", strings.TrimPrefix(s.Version+", started "+since(s.Started), ", "))
	}
	line("told", "%s", since(s.Told))
	switch {
	case s.Told.IsZero():
	case s.Answer.Held != "":
		line("answer", "not followed yet: %s", s.Answer.Held)
	case s.Answer.Changed:
		line("answer", "the address went from %s to %s; %s", s.Answer.Old, s.Answer.New, strings.Join(s.Answer.Hostnames, ", "))
	default:
		line("answer", "nothing has changed: %s", s.Answer.New)
	}
	if s.Answer.NAT != "" {
		line("NAT", "%s", natWords[string(s.Answer.NAT)])
	}
	if s.Trouble != "" {
		line("trouble", "%s", s.Trouble)
	}
	if s.Resolver != "" {
		line("resolver", "%s", s.Resolver)
	}
	for _, r := range s.Sources {
		said := strings.TrimSpace(r.IPv4 + " " + r.IPv6)
		if r.Problem != "" {
			said = r.Problem
		}
		line("source", "%-10s %-16s %s", r.Source, r.Via, said)
	}
	for _, d := range s.LAN {
		line("device", "%s", deviceWords(d))
	}
	if s.LANTrouble != "" {
		line("LAN", "%s", s.LANTrouble)
	}
}

var natWords = map[string]string{
	"direct":  "direct: the router has the public address itself",
	"double":  "double: another device at the site translates in front of the router",
	"carrier": "carrier: the provider translates, and forwards do not work",
	"unknown": "unknown: nothing reports the router's WAN address",
}

func deviceWords(d contract.DeviceReport) string {
	words := []string{d.Device}
	switch {
	case d.Found != "":
		words = append(words, "is at "+d.Found+", not where the record has it")
	case d.Present:
		words = append(words, "is there")
	default:
		words = append(words, "does not answer")
	}
	for _, p := range d.Ports {
		words = append(words, p.Service+" "+p.State)
	}
	return words[0] + " " + strings.Join(words[1:], ", ")
}
