package cli

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
)

func overviewCommand() *cobra.Command {
	return &cobra.Command{Use: "overview", Short: "What needs me now: open faults, sites in need, recent moves", Args: cobra.NoArgs,
		RunE: with(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			o, err := c.Overview(cmd.Context())
			if err != nil {
				return err
			}
			if format, _ := cmd.Flags().GetString("format"); format != "table" {
				return showOne(cmd, o)
			}
			if o.Trouble != "" {
				say(cmd, "%s\n", painter(coloured(cmd))(unsettled, "Mind that "+o.Trouble+"."))
			}
			if o.Standby != "" {
				say(cmd, "%s\n", painter(coloured(cmd))(unsettled, "Mind that "+o.Standby+"."))
			}
			if o.FaultCount == 0 {
				say(cmd, "Nothing needs you.")
			} else {
				say(cmd, "Open faults")
				for _, g := range o.Groups {
					sayGroup(cmd, g)
				}
				printFaults(cmd, o.Faults)
			}
			if len(o.ToCommission) > 0 {
				say(cmd, "\nTo be commissioned")
				for _, t := range o.ToCommission {
					sayMissing(cmd, t)
				}
			}
			say(cmd, "\nSites")
			if err := show(cmd, o.Sites, siteColumns()...); err != nil {
				return err
			}
			if more := o.SiteCount - len(o.Sites); more > 0 {
				say(cmd, "and %d more: inkpost site list", more)
			}
			say(cmd, "\nRecent moves")
			return show(cmd, o.Moves, moveColumns()...)
		})}
}

// sayGroup says what several sites have in common.
func sayGroup(cmd *cobra.Command, g contract.FaultGroup) {
	paint, tone := painter(coloured(cmd)), unsettled
	if g.Serious {
		tone = wrong
	}
	var at []string
	for _, f := range g.Faults {
		if !slices.Contains(at, f.Site) {
			at = append(at, f.Site)
		}
	}
	more := ""
	if g.Sites > len(at) {
		more = fmt.Sprintf(" and %d more", g.Sites-len(at))
	}
	say(cmd, "%s  %s.\n  %s%s\n  inkpost fault list --cause %s", paint(tone, fmt.Sprintf("%d sites", g.Sites)), g.Summary,
		strings.Join(at, " "), more, g.Cause)
}

func moveColumns() []column[contract.Move] {
	out := []column[contract.Move]{
		{title: "move", text: func(m contract.Move) string { return fmt.Sprint(m.ID) }},
		{title: "noticed", text: func(m contract.Move) string { return ago(m.Noticed) },
			machine: func(m contract.Move) string { return stamp(m.Noticed) }},
		{title: "site", text: func(m contract.Move) string { return m.Site }, tone: func(contract.Move) tone { return strong }},
		{title: "link", text: func(m contract.Move) string { return m.Link }},
		{title: "old", text: func(m contract.Move) string { return m.Old }, tone: func(contract.Move) tone { return faded }},
		{title: "new", text: func(m contract.Move) string { return m.New }},
		{title: "source", text: func(m contract.Move) string { return m.Source }},
	}
	for _, name := range contract.StageNames[1:] {
		at := func(m contract.Move) contract.Stage { return m.Stage(name) }
		out = append(out, column[contract.Move]{title: name,
			text: func(m contract.Move) string {
				if at(m).At.IsZero() {
					return "-"
				}
				return "+" + millis(at(m).ReachedMS)
			},
			machine: func(m contract.Move) string { return stamp(at(m).At) }})
	}
	return append(out, column[contract.Move]{title: "total", text: func(m contract.Move) string { return millis(m.TotalMS) },
		machine: func(m contract.Move) string { return fmt.Sprintf("%.3f", m.TotalMS) }, tone: func(contract.Move) tone { return strong }})
}

func movesCommand() *cobra.Command {
	var q contract.MoveQuery
	var since, until string
	c := &cobra.Command{Use: "moves", Short: "List address changes, each stage with the time it took", Args: cobra.NoArgs,
		RunE: with(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			var err error
			if q.Since, err = moment("since", since); err != nil {
				return err
			}
			if q.Until, err = moment("until", until); err != nil {
				return err
			}
			rows, err := c.Moves(cmd.Context(), q)
			if err != nil {
				return err
			}
			return show(cmd, rows, moveColumns()...)
		})}
	c.Flags().StringVar(&q.Site, "site", "", "only those of this site")
	c.Flags().StringVar(&q.Link, "link", "", "only those of this link of the site")
	c.Flags().StringVar(&q.Source, "source", "", "only those learned by this source: observed, stun, gateway, interface, fixed")
	c.Flags().StringVar(&q.Address, "address", "", "only those that left or came to this address")
	c.Flags().StringVar(&since, "since", "", "only those noticed at this time or later: 2026-11-23, 2026-11-23T08:00:00Z, or 36h "+
		"for so long ago")
	c.Flags().StringVar(&until, "until", "", "only those noticed before this time, written in the same way")
	c.Flags().BoolVar(&q.Unfinished, "unfinished", false, "only those whose services are not all confirmed")
	c.Flags().Int64Var(&q.Before, "before", 0, "only moves with a lower number")
	c.Flags().IntVar(&q.Limit, "limit", 20, "at most this many, 1 to 500")
	return c
}

// moment reads a point in time: a day, a time (RFC 3339), or how long ago.
func moment(flag, text string) (time.Time, error) {
	if text == "" {
		return time.Time{}, nil
	}
	for _, layout := range []string{time.RFC3339, time.DateOnly} {
		if t, err := time.ParseInLocation(layout, text, time.Local); err == nil {
			return t, nil
		}
	}
	ago, err := time.ParseDuration(text)
	if err != nil || ago < 0 {
		return time.Time{}, usagef("--%s %q is not a time; write 2026-11-23, 2026-11-23T08:00:00Z, or 36h for so long ago", flag, text)
	}
	return time.Now().Add(-ago), nil
}

// wrapped breaks text into lines of at most width characters.
func wrapped(s string, width int) []string {
	var out []string
	line := ""
	for _, w := range strings.Fields(s) {
		if line != "" && len([]rune(line))+1+len([]rune(w)) > width {
			out, line = append(out, line), ""
		}
		if line != "" {
			line += " "
		}
		line += w
	}
	return append(out, line)
}

func watchCommand() *cobra.Command {
	var code string
	c := &cobra.Command{Use: "watch", Short: "Follow live what happens, until Ctrl-C", Args: cobra.NoArgs,
		RunE: with(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			format, _ := cmd.Flags().GetString("format")
			if format != "table" && format != "json" {
				return usagef("watch prints --format table, or json with one document a line")
			}
			paint := painter(coloured(cmd))
			ctx, stop := interrupted(cmd)
			defer stop()
			if format == "table" {
				_, _ = fmt.Fprintln(cmd.ErrOrStderr(), paint(faded, "following "+c.Base()+"; Ctrl-C ends"))
			}
			return c.Follow(ctx, strings.ToUpper(code), func(ev contract.Event) {
				if format == "json" {
					_ = documentLine(cmd.OutOrStdout(), ev)
					return
				}
				if ev.Type == contract.EventMoveProgressed {
					return // the moves command shows the stages
				}
				say(cmd, "%s  %s  %s", paint(faded, ev.Time.Local().Format("15:04:05")), paint(strong, pad(orDash(ev.Subject), 7)),
					paint(eventTone(ev.Type), ev.Data.Words))
			}, func(err error) {
				if err == nil {
					err = fmt.Errorf("some events were missed")
				}
				_, _ = fmt.Fprintf(cmd.ErrOrStderr(), "inkpost: %v\n", err)
			})
		})}
	c.Flags().StringVar(&code, "site", "", "only what happens at this site")
	return c
}

func eventTone(kind string) tone {
	switch kind {
	case contract.EventFaultOpened:
		return wrong
	case contract.EventFaultClosed:
		return proven
	case contract.EventFaultChanged:
		return unsettled
	case contract.EventMoveRecorded:
		return strong
	}
	return plain
}
