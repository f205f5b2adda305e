package cli

import (
	"cmp"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/causes"
	"inkpost.example/inkpost/internal/core/pace"
)

func faultColumns() []column[contract.Fault] {
	return []column[contract.Fault]{
		{title: "fault", text: func(f contract.Fault) string { return fmt.Sprint(f.ID) }},
		{title: "site", text: func(f contract.Fault) string { return orDash(f.Site) }, tone: func(contract.Fault) tone { return strong }},
		{title: "opened", text: func(f contract.Fault) string { return ago(f.Opened) },
			machine: func(f contract.Fault) string { return stamp(f.Opened) }},
		{title: "state", text: func(f contract.Fault) string {
			if f.Closed.IsZero() {
				return faultState(f)
			}
			return "after " + pace.Length(f.Closed.Sub(f.Opened))
		}, machine: func(f contract.Fault) string { return stamp(f.Closed) }, tone: func(f contract.Fault) tone {
			if f.Closed.IsZero() && f.Planned.IsZero() {
				return wrong
			}
			return plain
		}},
		{title: "hop", text: func(f contract.Fault) string { return string(f.Finding.Hop) }},
		{title: "cause", text: func(f contract.Fault) string { return string(f.Finding.Cause) }},
		{title: "subject", text: func(f contract.Fault) string { return f.Finding.Subject }},
		{title: "summary", text: func(f contract.Fault) string { return f.Finding.Summary }},
	}
}

// faultState says in words how far people are with an open fault.
func faultState(f contract.Fault) string {
	words := "open"
	switch {
	case !f.Planned.IsZero():
		words = "planned work"
	case f.Under != 0:
		words = fmt.Sprintf("under fault %d", f.Under)
	case f.Assigned != "":
		words = "for " + f.Assigned
	case !f.Acknowledged.IsZero():
		words = "known"
	}
	if f.Returns > 0 {
		words += fmt.Sprintf(", back %s", pace.Times(f.Returns))
	}
	return words
}

func faultCommand() *cobra.Command {
	var code, cause string
	var all bool
	run := with(func(cmd *cobra.Command, c *client.Client, _ []string) error {
		rows, err := c.FaultsOf(cmd.Context(), code, causes.Slug(cause), !all)
		if err != nil {
			return err
		}
		return show(cmd, rows, faultColumns()...)
	})
	c := &cobra.Command{Use: "fault", Aliases: []string{"faults"}, Short: "List open faults, and take them up", Args: cobra.NoArgs,
		RunE: run}
	list := &cobra.Command{Use: "list", Short: "List open faults with their cause", Args: cobra.NoArgs, RunE: run}
	for _, c := range []*cobra.Command{c, list} {
		c.Flags().StringVar(&code, "site", "", "only those of this site")
		c.Flags().StringVar(&cause, "cause", "", "only those with this cause, such as forward-missing")
		c.Flags().BoolVar(&all, "all", false, "closed ones too")
	}
	c.AddCommand(list, showFaultCommand(), takeCommand(), noteCommand(), muteCommand(), judgeCommand(), accuracyCommand(), timesCommand())
	return c
}

// faultID reads the number of a fault.
func faultID(text string) (int64, error) { return numbered("fault", "fault list --all", text) }

// onFault makes the work of a command about one fault.
func onFault(f func(cmd *cobra.Command, c *client.Client, id int64, args []string) error) func(*cobra.Command, []string) error {
	return with(func(cmd *cobra.Command, c *client.Client, args []string) error {
		id, err := faultID(args[0])
		if err != nil {
			return err
		}
		return f(cmd, c, id, args)
	})
}

func showFaultCommand() *cobra.Command {
	return &cobra.Command{Use: "show FAULT", Short: "Show a fault: what is so, what to do, and all that happened to it",
		Args: cobra.ExactArgs(1), Example: "  inkpost fault show 42",
		RunE: onFault(func(cmd *cobra.Command, c *client.Client, id int64, _ []string) error {
			f, err := c.Fault(cmd.Context(), id)
			if err != nil {
				return err
			}
			if format, _ := cmd.Flags().GetString("format"); format != "table" {
				return show(cmd, []contract.FaultStory{f}, storyColumns()...)
			}
			printStory(cmd, f)
			return nil
		})}
}

func storyColumns() (out []column[contract.FaultStory]) {
	for _, c := range faultColumns() {
		out = append(out, column[contract.FaultStory]{title: c.title, text: func(f contract.FaultStory) string { return c.text(f.Fault) }})
	}
	return out
}

// printStory prints the next step first: that is what it is read for.
func printStory(cmd *cobra.Command, f contract.FaultStory) {
	paint := painter(coloured(cmd))
	where := strings.TrimSpace(f.Site + "  " + f.SiteName)
	if f.Provider != "" && f.Site == "" {
		where = f.Provider
	}
	say(cmd, "%s  %s", paint(strong, fmt.Sprintf("Fault %d", f.ID)), paint(strong, where))
	t := wrong
	if !f.Closed.IsZero() {
		t = proven
	} else if !f.Serious {
		t = unsettled
	}
	say(cmd, "%s  %s", paint(t, f.Finding.Summary+"."), paint(faded, sureWords[f.Finding.Sure]+", "+string(f.Finding.Cause)))
	if f.Closed.IsZero() {
		for _, line := range wrapped("Next: "+f.Finding.Next, 92) {
			say(cmd, "  %s", line)
		}
		printDoubt(cmd, f.Finding)
	}
	for _, evidence := range f.Finding.Evidence {
		for n, line := range wrapped(evidence, 90) {
			say(cmd, "  %s%s", strings.Repeat("  ", min(n, 1)), paint(faded, line))
		}
	}
	say(cmd, "")
	end := "open since " + pace.Length(time.Since(f.Opened))
	if !f.Closed.IsZero() {
		end = "over after " + pace.Length(f.Closed.Sub(f.Opened))
	}
	if f.Returns > 0 {
		end += ", came back " + pace.Times(f.Returns)
	}
	say(cmd, "%s, noticed %s after the first sign.", end, pace.Length(f.Opened.Sub(f.Began)))
	if !f.Planned.IsZero() {
		say(cmd, "Planned work is under way until %s: nobody is told of it.", f.Planned.Local().Format("2 Jan 15:04"))
	}
	switch {
	case f.Assigned != "":
		say(cmd, "It is for %s.", f.Assigned)
	case !f.Acknowledged.IsZero():
		say(cmd, "%s knows of it since %s.", f.By, f.Acknowledged.Local().Format("2 Jan 15:04"))
	case f.Closed.IsZero() && f.Under == 0:
		say(cmd, "Nobody has taken it up: inkpost fault take %d", f.ID)
	}
	if f.Under != 0 {
		say(cmd, "It is part of fault %d: inkpost fault show %d", f.Under, f.Under)
	}
	if len(f.Explained) > 0 {
		say(cmd, "\n%s", paint(strong, "Sites under it"))
		for _, one := range f.Explained {
			say(cmd, "  %s  %s  %s", paint(strong, pad(one.Site, 8)), one.SiteName, paint(faded,
				"since "+pace.Length(time.Since(one.Opened))))
		}
	}
	if len(f.Timeline) > 0 {
		say(cmd, "\n%s", paint(strong, "What happened"))
	}
	for _, e := range f.Timeline {
		words := e.Words
		if e.By != "" {
			words = e.By + ": " + words
		}
		for n, line := range wrapped(words, 64) {
			at, kind := e.At.Local().Format("2 Jan 15:04:05"), string(e.Kind)
			if n > 0 {
				at, kind = "", ""
			}
			say(cmd, "  %s  %s  %s", paint(faded, pad(at, 15)), pad(kind, 12), line)
		}
	}
}

func takeCommand() *cobra.Command {
	var whose string
	var release bool
	c := &cobra.Command{Use: "take FAULT", Short: "Say that you know of a fault, and whose it is to mend", Args: cobra.ExactArgs(1),
		Example: "  inkpost fault take 42\n  inkpost fault take 42 --for \"field technician\"",
		RunE: onFault(func(cmd *cobra.Command, c *client.Client, id int64, _ []string) error {
			yes := !release
			in := contract.FaultTaking{Acknowledged: &yes}
			if cmd.Flags().Changed("for") || release {
				in.Assigned = &whose
			}
			if release && whose != "" {
				return usagef("give --for or --release, not both")
			}
			f, err := c.TakeFault(cmd.Context(), id, in)
			if err != nil {
				return err
			}
			switch {
			case f.Assigned != "":
				say(cmd, "Fault %d is for %s.", id, f.Assigned)
			case release:
				say(cmd, "Fault %d is nobody's again.", id)
			default:
				say(cmd, "Fault %d is known of: %s.", id, f.By)
			}
			return nil
		})}
	c.Flags().StringVar(&whose, "for", "", "the person who mends it; empty for nobody")
	c.Flags().BoolVar(&release, "release", false, "take it back: nobody knows of it, and it is nobody's")
	return c
}

func noteCommand() *cobra.Command {
	return &cobra.Command{Use: "note FAULT TEXT", Short: "Add a note to a fault's timeline", Args: cobra.ExactArgs(2),
		RunE: onFault(func(cmd *cobra.Command, c *client.Client, id int64, args []string) error {
			_, err := c.NoteFault(cmd.Context(), id, args[1])
			if err == nil {
				say(cmd, "Noted.")
			}
			return err
		})}
}

func timesCommand() *cobra.Command {
	var by, since string
	c := &cobra.Command{Use: "times", Short: "Show how long faults took to be noticed and mended", Args: cobra.NoArgs,
		Example: "  inkpost fault times --by provider --since 2026-11-01",
		RunE: with(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			from, err := moment("since", since)
			if err != nil {
				return err
			}
			rows, err := c.FaultTimes(cmd.Context(), by, from)
			if err != nil {
				return err
			}
			length := func(seconds float64) string {
				if seconds == 0 {
					return "-"
				}
				return pace.Length(time.Duration(seconds * float64(time.Second)))
			}
			seconds := func(s float64) string { return strconv.FormatFloat(s, 'f', 3, 64) }
			return show(cmd, rows,
				column[contract.FaultTimes]{title: by, text: func(t contract.FaultTimes) string { return orDash(t.Name) }},
				column[contract.FaultTimes]{title: "faults", text: func(t contract.FaultTimes) string { return count(t.Faults) }},
				column[contract.FaultTimes]{title: "open", text: func(t contract.FaultTimes) string { return count(t.Open) }},
				column[contract.FaultTimes]{title: "to notice", text: func(t contract.FaultTimes) string { return length(t.NoticeSeconds) },
					machine: func(t contract.FaultTimes) string { return seconds(t.NoticeSeconds) }},
				column[contract.FaultTimes]{title: "to mend", text: func(t contract.FaultTimes) string { return length(t.MendSeconds) },
					machine: func(t contract.FaultTimes) string { return seconds(t.MendSeconds) }},
				column[contract.FaultTimes]{title: "longest", text: func(t contract.FaultTimes) string { return length(t.LongestSecs) },
					machine: func(t contract.FaultTimes) string { return seconds(t.LongestSecs) }})
		})}
	c.Flags().StringVar(&by, "by", "cause", "put them together by site, provider or cause")
	c.Flags().StringVar(&since, "since", "", "only faults that opened since: 2026-11-01, or 720h for so long ago (default: 90 days)")
	return c
}

func printFaults(cmd *cobra.Command, list []contract.Fault) {
	paint := painter(coloured(cmd))
	for _, f := range list {
		t := wrong
		if !f.Serious {
			t = unsettled
		}
		say(cmd, "  %s  %s  %s", paint(strong, cmp.Or(f.Site, f.Provider)), paint(t, f.Finding.Summary),
			paint(faded, "since "+pace.Length(time.Since(f.Opened))))
		for _, line := range wrapped("Next: "+f.Finding.Next, 92) {
			say(cmd, "      %s", line)
		}
	}
}
