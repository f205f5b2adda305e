package cli

import (
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/ledger"
	"inkpost.example/inkpost/internal/core/pace"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
)

func probeCommand() *cobra.Command {
	var from string
	c := &cobra.Command{Use: "probe SITE SERVICE", Short: "Probe a service now and show each step", Args: cobra.ExactArgs(2),
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			s, err := c.ProbeFrom(cmd.Context(), args[0], args[1], from)
			if err != nil {
				return err
			}
			if format, _ := cmd.Flags().GetString("format"); format != "table" {
				return showOne(cmd, s, column[contract.ProbeTrace]{title: "outcome",
					text: func(s contract.ProbeTrace) string { return string(s.Outcome) }})
			}
			printTrace(cmd, s)
			return nil
		})}
	c.Flags().StringVar(&from, "from", "", "the vantage point (default: the server itself)")
	return c
}

func printTrace(cmd *cobra.Command, s contract.ProbeTrace) {
	paint := painter(coloured(cmd))
	say(cmd, "%s %s from vantage point %s", paint(strong, s.Site), s.Service, s.Vantage)
	for _, a := range s.Attempts {
		say(cmd, "  %s %s: %s", orDash(a.Target), a.Transport, paint(tones[a.Verdict], string(a.Outcome)))
		for _, step := range a.Steps {
			say(cmd, "    %s  %s  %s", paint(faded, fmt.Sprintf("%9s", pace.Length(time.Duration(step.AtUS)*time.Microsecond))),
				pad(step.Name, 11), step.Words)
		}
		if len(a.Steps) == 0 {
			say(cmd, "    %s", a.Message)
		}
	}
	if s.Named != nil {
		say(cmd, "  by name: %s is %s by %s: %s", s.Named.Hostname, s.Named.Given, s.Named.Resolver, s.Named.Message)
	}
	if s.Certificate != nil {
		say(cmd, "  certificate: for %s, until %s%s", orDash(strings.Join(s.Certificate.Names, ", ")),
			s.Certificate.Expires.Format(time.DateOnly), before("; ", s.Certificate.Problem))
	}
	if s.Pinned != "" || s.Fingerprint != "" {
		say(cmd, "  recognised by %s%s", orDash(s.Pinned),
			map[bool]string{true: ", but it shows " + s.Fingerprint}[s.Pinned != "" && s.Fingerprint != "" && s.Fingerprint != s.Pinned])
	}
	if s.Weakness != "" {
		say(cmd, "  warning: %s", s.Weakness)
	}
	if s.NotProvable {
		say(cmd, "  %s: a working service of this kind may ignore a probe. Have the agent prove the path: "+
			"inkpost agent prove %s --transport udp --external PORT", paint(unsettled, "not provable this way"), s.Site)
	}
	say(cmd, "  the service is %s", s.Words)
}

func before(sign, words string) string {
	if words == "" {
		return ""
	}
	return sign + words
}

func kindsCommand() *cobra.Command {
	return &cobra.Command{Use: "kinds", Short: "List what can be probed, and how", Args: cobra.NoArgs,
		RunE: with(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			rows, err := c.Kinds(cmd.Context())
			if err != nil {
				return err
			}
			return show(cmd, rows,
				column[probe.Trait]{title: "kind", text: func(t probe.Trait) string { return string(t.Kind) },
					tone: func(probe.Trait) tone { return strong }},
				column[probe.Trait]{title: "what it is", text: func(t probe.Trait) string { return t.About }},
				column[probe.Trait]{title: "over", text: func(t probe.Trait) string {
					var words []string
					for _, one := range t.Transports {
						words = append(words, string(one))
					}
					return strings.Join(words, " ")
				}},
				column[probe.Trait]{title: "port", text: func(t probe.Trait) string {
					if t.Port == 0 {
						return "-"
					}
					return fmt.Sprint(t.Port)
				}},
				column[probe.Trait]{title: "recognised by", text: func(t probe.Trait) string { return orDash(t.Recognised) }},
				column[probe.Trait]{title: "options", text: func(t probe.Trait) string { return orDash(strings.Join(t.Options, " ")) }})
		})}
}

func cardCommand() *cobra.Command {
	return &cobra.Command{Use: "card SITE NAME", Short: "Show what to type into the site's router for a service", Args: cobra.ExactArgs(2),
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			cards, err := c.Cards(cmd.Context(), args[0], args[1])
			if err != nil {
				return err
			}
			if format, _ := cmd.Flags().GetString("format"); format != "table" {
				return show(cmd, cards, column[site.Card]{title: "card", text: func(c site.Card) string { return c.Title }},
					column[site.Card]{title: "where", text: func(c site.Card) string { return c.Where }},
					column[site.Card]{title: "fields", text: func(c site.Card) string {
						var words []string
						for _, f := range c.Fields {
							words = append(words, f.Label+": "+f.Value)
						}
						return strings.Join(words, "; ")
					}})
			}
			paint := painter(coloured(cmd))
			for i, card := range cards {
				if i > 0 {
					say(cmd, "")
				}
				say(cmd, "%s, in %s", paint(strong, card.Title), card.Where)
				width := 0
				for _, f := range card.Fields {
					width = max(width, len(f.Label))
				}
				for _, f := range card.Fields {
					say(cmd, "  %s  %s", paint(faded, pad(f.Label, width)), f.Value)
				}
				if card.Note != "" {
					say(cmd, "  %s", card.Note)
				}
			}
			return nil
		})}
}

func pinCommand() *cobra.Command {
	var print string
	c := &cobra.Command{Use: "pin SITE NAME", Short: "Recognise a service by what it shows now", Args: cobra.ExactArgs(2),
		Long: `Have a service recognised by what it showed when it was probed last, in place of what was pinned
before. Do this only where you know why it is another one: the device was replaced, or reset.`,
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			s, err := c.Pin(cmd.Context(), args[0], args[1], print)
			if err == nil {
				say(cmd, "%s of %s is recognised by: %s", s.Name, args[0], s.Fingerprint)
			}
			return err
		})}
	c.Flags().StringVar(&print, "fingerprint", "", "what to recognise it by (default: what it showed last)")
	return c
}

func availabilityCommand() *cobra.Command {
	type row struct {
		service string
		ledger.Availability
	}
	var days int
	cmd := &cobra.Command{Use: "availability SITE [NAME]",
		Short:   "Show the availability of services over a day, a week, a month, a quarter and a year",
		Args:    cobra.RangeArgs(1, 2),
		Example: "  inkpost service availability KET-07\n  inkpost service availability KET-07 video --days 30 --format csv",
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			if days != 0 && len(args) == 1 {
				return usagef("--days shows one service: name it")
			}
			var list []contract.ServiceAvailability
			var err error
			if days != 0 {
				list = []contract.ServiceAvailability{{Site: args[0], Service: args[1]}}
				list[0].Windows, err = c.Days(cmd.Context(), args[0], args[1], days)
			} else {
				list, err = c.Availability(cmd.Context(), args[0], strings.Join(args[1:], ""))
			}
			if err != nil {
				return err
			}
			if format, _ := cmd.Flags().GetString("format"); format == "json" || format == "yaml" {
				return show(cmd, list, column[contract.ServiceAvailability]{})
			}
			var rows []row
			for _, s := range list {
				for _, w := range s.Windows {
					rows = append(rows, row{s.Service, w})
				}
			}
			seconds := func(of func(row) int64) column[row] {
				return column[row]{text: func(r row) string {
					if of(r) == 0 {
						return "-"
					}
					return pace.Length(time.Duration(of(r)) * time.Second)
				}, machine: func(r row) string { return fmt.Sprint(of(r)) }}
			}
			titled := func(title string, c column[row]) column[row] { c.title = title; return c }
			latency := func(title string, of func(row) int64) column[row] {
				return column[row]{title: title, text: func(r row) string { return micros(of(r)) },
					machine: func(r row) string { return fmt.Sprint(of(r)) }}
			}
			return show(cmd, rows,
				column[row]{title: "service", text: func(r row) string { return r.service }, tone: func(row) tone { return strong }},
				column[row]{title: "over", text: func(r row) string { return r.Window }},
				column[row]{title: "as expected", text: func(r row) string {
					if r.Share == nil {
						return "-"
					}
					return fmt.Sprintf("%.3f %%", 100**r.Share)
				}},
				titled("failing", seconds(func(r row) int64 { return r.Bad })),
				titled("impaired", seconds(func(r row) int64 { return r.Partly })),
				titled("unknown", seconds(func(r row) int64 { return r.Unknown })),
				latency("median", func(r row) int64 { return r.Median }),
				latency("95 %", func(r row) int64 { return r.P95 }),
				latency("99 %", func(r row) int64 { return r.P99 }))
		})}
	cmd.Flags().IntVar(&days, "days", 0, "day by day instead, over the last so many days, 1 to 400")
	return cmd
}
