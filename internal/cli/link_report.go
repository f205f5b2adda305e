package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
)

// reportColumns are what is known of a link from the site's side: one row each, as many as there are.
func reportColumns(l contract.Link) []column[contract.Link] {
	s := l.Report
	if s == nil {
		s = &contract.LinkReport{}
	}
	var out []column[contract.Link]
	add := func(title, text string, t tone) {
		if text != "" {
			out = append(out, column[contract.Link]{title: title, text: func(contract.Link) string { return text },
				tone: func(contract.Link) tone { return t }})
		}
	}
	if c := l.Pattern; c != nil {
		add("changes", fmt.Sprintf("%s; next %s, %d %% sure", c.Words, c.Next.Local().Format("Mon 2 Jan 15:04"), int(100*c.Sure)), plain)
	}
	add("in front", s.Words, plain)
	add("way out", strings.Join(s.Chain, ", then "), plain)
	for _, r := range s.Remedies {
		add("do", r, plain)
	}
	add("decided", s.Reason, plain)
	add("held back", s.Held, wrong)
	for _, r := range s.Sources {
		text := string(r.Source) + " (" + r.Via + "): " + r.Addresses
		if r.Problem != "" {
			text = string(r.Source) + " (" + r.Via + "): " + r.Problem
		}
		if r.Dissent != "" {
			add("source", text+"; "+r.Dissent, unsettled)
		} else {
			add("source", text, plain)
		}
	}
	for _, words := range s.GatewayWords {
		add("router says", words, plain)
	}
	if l.MayMap {
		add("may map", "yes: a port that fails may be asked for as a trial", plain)
	}
	add("agent", s.Agent, plain)
	add("resolver", s.Resolver, wrong)
	for _, c := range s.Cannot {
		add("cannot", c, faded)
	}
	for _, r := range s.Refused {
		refusal := wrong
		if r.Stranger {
			refusal = faded // anybody can cause that
		}
		add("refused", count(r.Count)+" times, last "+ago(r.Last)+" from "+r.From+": "+r.Reason, refusal)
	}
	return out
}

func lanCommand() *cobra.Command {
	var fresh bool
	c := &cobra.Command{Use: "lan SITE", Short: "Show what the agent sees of a site's devices from inside", Args: cobra.ExactArgs(1),
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			rows, err := c.LAN(cmd.Context(), args[0], fresh)
			if err != nil {
				return err
			}
			return show(cmd, rows,
				column[contract.DeviceReport]{title: "device", text: func(s contract.DeviceReport) string { return s.Device },
					tone: func(contract.DeviceReport) tone { return strong }},
				column[contract.DeviceReport]{title: "there", text: func(s contract.DeviceReport) string {
					return s.Words
				}, tone: func(s contract.DeviceReport) tone { return tones[s.Verdict] }},
				column[contract.DeviceReport]{title: "MAC", text: func(s contract.DeviceReport) string { return orDash(s.MAC) }},
				column[contract.DeviceReport]{title: "IPv6", text: func(s contract.DeviceReport) string { return orDash(s.IPv6) }},
				column[contract.DeviceReport]{title: "ports from inside", text: func(s contract.DeviceReport) string {
					var ports []string
					for _, p := range s.Ports {
						ports = append(ports, p.Service+" "+p.State)
					}
					return orDash(strings.Join(ports, ", "))
				}},
				column[contract.DeviceReport]{title: "seen", text: func(s contract.DeviceReport) string { return ago(s.At) },
					machine: func(s contract.DeviceReport) string { return stamp(s.At) }})
		})}
	c.Flags().BoolVar(&fresh, "now", false, "have the agent look now")
	return c
}

func proveCommand() *cobra.Command {
	var in contract.ProofInput
	c := &cobra.Command{Use: "prove SITE", Short: "Prove that the router passes a port on, before the device is there",
		Args: cobra.ExactArgs(1),
		Long: `Have the agent listen on a port of its machine for a few seconds, and send to the external port from
here. What arrives proves the forward, for UDP too, which no other test can. The forward has to lead
to the agent's machine for the test.`,
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			p, err := c.Prove(cmd.Context(), args[0], in)
			if err != nil {
				return err
			}
			if format, _ := cmd.Flags().GetString("format"); format != "table" {
				return showOne(cmd, p, column[contract.Proof]{title: "words", text: func(p contract.Proof) string { return p.Words }})
			}
			say(cmd, "%s: %s.", map[bool]string{true: "Proven", false: "Not proven"}[p.Proven], p.Words)
			say(cmd, "Next: %s", p.Next)
			return nil
		})}
	c.Flags().StringVar(&in.Link, "link", "", "the link (default: the preferred one)")
	c.Flags().StringVar(&in.Transport, "transport", "tcp", "tcp or udp")
	c.Flags().IntVar(&in.External, "external", 0, "the external port")
	c.Flags().IntVar(&in.Port, "port", 0, "the port of the agent's machine (default: the same)")
	return c
}
