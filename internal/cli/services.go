package cli

import (
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/pace"
	"inkpost.example/inkpost/internal/core/site"
)

func serviceColumns() []column[contract.Service] {
	return []column[contract.Service]{
		{title: "service", text: func(s contract.Service) string { return s.Name }, tone: func(contract.Service) tone { return strong }},
		{title: "state", text: func(s contract.Service) string {
			return s.StateWords
		}, machine: func(s contract.Service) string { return string(s.State) },
			tone: func(s contract.Service) tone { return tones[s.Verdict] }},
		{title: "outcome", text: func(s contract.Service) string { return orDash(string(s.Outcome)) }},
		{title: "probed", text: func(s contract.Service) string { return ago(s.Probed) },
			machine: func(s contract.Service) string { return stamp(s.Probed) }},
		{title: "external", text: func(s contract.Service) string {
			words := string(s.Transport) + " " + s.External
			switch s.Reach {
			case site.ByPinhole:
				return "pinhole " + string(s.Transport) + " " + s.Internal
			case site.ByBoth:
				return words + " and pinhole"
			}
			return words
		}},
		{title: "device", text: func(s contract.Service) string { return fmt.Sprintf("%s port %s", s.Device, s.Internal) }},
		{title: "kind", text: func(s contract.Service) string { return string(s.Kind) }},
		{title: "expected", text: func(s contract.Service) string {
			if !s.OpenUntil.IsZero() && s.ExpectedNow == s.Expected {
				return "open for " + pace.Length(time.Until(s.OpenUntil))
			}
			return string(s.ExpectedNow)
		}, machine: func(s contract.Service) string { return string(s.ExpectedNow) }},
		{title: "every", text: func(s contract.Service) string { return fmt.Sprintf("%d s", s.Interval) },
			machine: func(s contract.Service) string { return count(s.Interval) }},
	}
}

func serviceCommand() *cobra.Command {
	var in contract.ServiceInput
	var options []string
	var openUntil string
	add := &cobra.Command{Use: "add SITE NAME --device DEVICE --external PORT", Short: "Put one exposed port, or range, on record",
		Args: cobra.ExactArgs(2),
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			in.Name = args[1]
			for _, o := range options {
				name, value, _ := strings.Cut(o, "=")
				var err error
				if in.Options, err = in.Options.With(name, value); err != nil {
					return usageError{err}
				}
			}
			if openUntil != "" {
				at, err := until(openUntil)
				if err != nil {
					return err
				}
				in.OpenUntil = at
			}
			s, err := c.AddService(cmd.Context(), args[0], in)
			if err == nil {
				say(cmd, "Service %s of %s is on record. What to type into the router: inkpost service card %s %s; step by step "+
					"into use: inkpost commission %s --service %s", s.Name, args[0], args[0], s.Name, args[0], s.Name)
				if s.PeerKey != "" {
					say(cmd, "On the WireGuard server, add a peer with the public key %s, so that a handshake can prove it.", s.PeerKey)
				}
			}
			return err
		})}
	edit := &cobra.Command{Use: "edit SITE NAME", Short: "Change a service", Args: cobra.ExactArgs(2),
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			f, err := givenBut(cmd, map[string]string{"name": "name", "device": "device", "link": "link", "kind": "kind",
				"transport": "transport",
				"external":  "external", "internal": "internal", "expected": "expected", "reach": "reach", "every": "interval_seconds",
				"in-use": "in_use"})
			if err != nil {
				return err
			}
			if len(options) > 0 {
				set := map[string]string{}
				for _, o := range options {
					name, value, _ := strings.Cut(o, "=")
					set[name] = value
				}
				f["options"] = set
			}
			if openUntil != "" {
				at, err := until(openUntil)
				if err != nil {
					return err
				}
				f["open_until"] = at
			}
			if len(f) == 0 {
				return usagef("nothing to change was given")
			}
			s, err := c.EditService(cmd.Context(), args[0], args[1], f)
			if err == nil {
				say(cmd, "Service %s of %s is changed.", s.Name, args[0])
			}
			return err
		})}
	edit.Flags().String("name", "", "the new name")
	for _, c := range []*cobra.Command{add, edit} {
		c.Flags().StringVar(&in.Device, "device", "", "the device that it runs on")
		c.Flags().StringVar(&in.Link, "link", "", "the link that it is reached by (default: the site's preferred link)")
		c.Flags().StringVar(&in.External, "external", "", "the port, or range of ports, on the public address")
		c.Flags().StringVar(&in.Internal, "internal", "", "the first port on the device (default: the same as outside)")
		c.Flags().StringVar(&in.Kind, "kind", "", "what it speaks (tcp); inkpost kinds lists all")
		c.Flags().StringVar(&in.Transport, "transport", "", "what carries it: tcp, udp or both (default: the kind's usual)")
		c.Flags().StringVar(&in.Reach, "reach", "",
			"how it is reached: forward (IPv4), pinhole (IPv6, at the device's own address) or both (default: forward)")
		c.Flags().StringVar(&in.Expected, "expected", "", "reachable, or closed for what must not be open")
		c.Flags().BoolVar(&in.InUse, "in-use", false,
			"it worked before it was put on record: it is a fault, and not to be commissioned, if it does not answer")
		c.Flags().IntVar(&in.Interval, "every", 0, "seconds between probes, 10 to 86400 (60)")
		c.Flags().StringArrayVar(&options, "option", nil,
			"NAME=VALUE, what a probe asks and expects beyond the kind; give it again for each")
		c.Flags().StringVar(&openUntil, "open-until", "",
			"a time, or how long from now such as 24h, after which it has to be closed; none takes that back")
	}
	list := &cobra.Command{Use: "list SITE", Short: "List a site's services", Args: cobra.ExactArgs(1),
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			rows, err := c.Services(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return show(cmd, rows, serviceColumns()...)
		})}
	one := &cobra.Command{Use: "show SITE NAME", Short: "Show a service", Args: cobra.ExactArgs(2),
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			s, err := c.Service(cmd.Context(), args[0], args[1])
			if err != nil {
				return err
			}
			if err := showOne(cmd, s, serviceColumns()...); err != nil {
				return err
			}
			if format, _ := cmd.Flags().GetString("format"); format == "table" {
				showViews(cmd, s)
			}
			return nil
		})}
	return group("service", "Exposed ports, each on a device", add, list, one, edit, historyCommand(), availabilityCommand(),
		cardCommand(), pinCommand(),
		recordRemoval("remove SITE NAME", "Remove a service", "service", 2, func(cmd *cobra.Command, c *client.Client,
			args []string) error {
			return c.RemoveService(cmd.Context(), args[0], args[1])
		}))
}

func historyCommand() *cobra.Command {
	var back time.Duration
	c := &cobra.Command{Use: "history SITE NAME", Short: "List the spans of equal outcomes of a service", Args: cobra.ExactArgs(2),
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			if back < time.Minute {
				return usagef("--back %s is too short; a minute at least", back)
			}
			if format, _ := cmd.Flags().GetString("format"); format == "csv" {
				return c.HistoryCSV(cmd.Context(), args[0], args[1], time.Now().Add(-back), time.Time{}, cmd.OutOrStdout())
			}
			h, err := c.History(cmd.Context(), args[0], args[1], time.Now().Add(-back), time.Time{})
			if err != nil {
				return err
			}
			return show(cmd, h.Spans,
				column[contract.HistorySpan]{title: "from",
					text:    func(s contract.HistorySpan) string { return s.From.Local().Format("2006-01-02 15:04:05") },
					machine: func(s contract.HistorySpan) string { return stamp(s.From) }},
				column[contract.HistorySpan]{title: "until",
					text:    func(s contract.HistorySpan) string { return s.Until.Local().Format("2006-01-02 15:04:05") },
					machine: func(s contract.HistorySpan) string { return stamp(s.Until) }},
				column[contract.HistorySpan]{title: "lasted",
					text:    func(s contract.HistorySpan) string { return pace.Length(s.Until.Sub(s.From)) },
					machine: func(s contract.HistorySpan) string { return fmt.Sprintf("%.3f", s.Until.Sub(s.From).Seconds()) }},
				column[contract.HistorySpan]{title: "outcome", text: func(s contract.HistorySpan) string { return string(s.Outcome) },
					tone: func(s contract.HistorySpan) tone { return tones[s.Verdict] }},
				column[contract.HistorySpan]{title: "probes", text: func(s contract.HistorySpan) string { return fmt.Sprint(s.Count) }},
				column[contract.HistorySpan]{title: "fastest", text: func(s contract.HistorySpan) string { return micros(s.Fastest) },
					machine: func(s contract.HistorySpan) string { return fmt.Sprint(s.Fastest) }},
				column[contract.HistorySpan]{title: "slowest", text: func(s contract.HistorySpan) string { return micros(s.Slowest) },
					machine: func(s contract.HistorySpan) string { return fmt.Sprint(s.Slowest) }},
				column[contract.HistorySpan]{title: "from vantage", text: func(s contract.HistorySpan) string { return s.Vantage }})
		})}
	c.Flags().DurationVar(&back, "back", 24*time.Hour, "how far back, such as 2h or 720h")
	return c
}

// showViews prints what is known of a service beyond its columns.
func showViews(cmd *cobra.Command, s contract.Service) {
	paint := painter(coloured(cmd))
	line := func(title, words string) {
		if words != "" {
			say(cmd, "%s  %s", paint(faded, pad(title, 8)), words)
		}
	}
	for _, v := range s.Vantages {
		words := fmt.Sprintf("%s from %s, %d in a row, %s: %s", v.Outcome, v.Vantage, v.InRow, ago(v.At), v.Message)
		if v.LeftOut != "" {
			words += "; does not count: " + v.LeftOut
		}
		line("seen", words)
	}
	line("options", strings.Join(s.Options.List(), ", "))
	if s.Fingerprint != "" {
		line("pinned", fmt.Sprintf("%s (%s, %s)", s.Fingerprint, s.PinnedBy, ago(s.Pinned)))
	}
	if s.Seen != "" && s.Seen != s.Fingerprint {
		line("shows", s.Seen)
	}
	if s.Certificate != nil {
		line("cert", fmt.Sprintf("for %s, until %s%s", orDash(strings.Join(s.Certificate.Names, ", ")),
			s.Certificate.Expires.Format(time.DateOnly), before("; ", s.Certificate.Problem)))
	}
	if s.Named != nil {
		line("by name", fmt.Sprintf("%s is %s by %s, %s: %s", s.Named.Hostname, s.Named.Given, s.Named.Resolver, ago(s.Named.At),
			s.Named.Message))
	}
	line("mind", s.Weakness)
	line("peer key", s.PeerKey)
}

// until reads a time, or a length of time from now; none is the beginning of time, which stands for none.
func until(text string) (time.Time, error) {
	if text == "none" {
		return time.Unix(0, 0).UTC(), nil
	}
	if d, err := time.ParseDuration(text); err == nil && d > 0 {
		return time.Now().Add(d).UTC(), nil
	}
	t, err := time.Parse(time.RFC3339, text)
	if err != nil {
		return t, usagef("--open-until %q is neither a time (2026-11-24T18:00:00Z) nor a length of time (24h)", text)
	}
	return t, nil
}

func micros(us int64) string {
	if us == 0 {
		return "-"
	}
	return pace.Length(time.Duration(us) * time.Microsecond)
}
