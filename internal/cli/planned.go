package cli

import (
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/fault"
	"inkpost.example/inkpost/internal/core/pace"
)

func muteCommand() *cobra.Command {
	var lasts time.Duration
	var reason string
	c := &cobra.Command{Use: "mute FAULT --for 3h", Short: "Plan work where a fault is: nobody is told of it meanwhile",
		Args:    cobra.ExactArgs(1),
		Example: "  inkpost fault mute 42 --for 3h --reason \"the router is being replaced\"",
		RunE: onFault(func(cmd *cobra.Command, c *client.Client, id int64, _ []string) error {
			minutes, err := wholeMinutes("for", lasts)
			if err != nil {
				return err
			}
			w, err := c.MuteFault(cmd.Context(), id, contract.PlannedWorkInput{Minutes: minutes, Reason: reason})
			if err != nil {
				return err
			}
			say(cmd, "Nobody is told of faults at %s until %s. To end it sooner: inkpost planned end %d", w.Where,
				w.Until.Local().Format("2 Jan 15:04"), w.ID)
			return nil
		})}
	c.Flags().DurationVar(&lasts, "for", 0, "how long the work takes, such as 3h")
	c.Flags().StringVar(&reason, "reason", "", "what is done")
	return c
}

func wholeMinutes(flag string, d time.Duration) (int, error) {
	if d < time.Minute {
		return 0, usagef("--%s is how long the work takes, such as 90m or 3h", flag)
	}
	return int(d.Round(time.Minute) / time.Minute), nil
}

func workColumns() []column[contract.PlannedWork] {
	return []column[contract.PlannedWork]{
		{title: "work", text: func(w contract.PlannedWork) string { return fmt.Sprint(w.ID) }},
		{title: "where", text: func(w contract.PlannedWork) string { return w.Where }, tone: func(contract.PlannedWork) tone {
			return strong
		}},
		{title: "state", text: func(w contract.PlannedWork) string {
			switch {
			case w.Active:
				return "under way"
			case w.From.IsZero():
				return "over"
			}
			return "to come"
		}, tone: func(w contract.PlannedWork) tone {
			if w.Active {
				return unsettled
			}
			return plain
		}},
		{title: "from", text: func(w contract.PlannedWork) string { return inZone(w.From, w.Zone) },
			machine: func(w contract.PlannedWork) string { return stamp(w.From) }},
		{title: "for", text: func(w contract.PlannedWork) string { return pace.Length(time.Duration(w.Minutes) * time.Minute) },
			machine: func(w contract.PlannedWork) string { return count(w.Minutes) }},
		{title: "repeats", text: func(w contract.PlannedWork) string { return string(w.Repeats) }},
		{title: "by", text: func(w contract.PlannedWork) string { return orDash(w.By) }},
		{title: "reason", text: func(w contract.PlannedWork) string { return orDash(w.Reason) }},
	}
}

// inZone prints a time by the clock of a time zone.
func inZone(t time.Time, zone string) string {
	if t.IsZero() {
		return "-"
	}
	if l, err := time.LoadLocation(zone); err == nil {
		t = t.In(l)
	}
	return t.Format("Mon 2 Jan 15:04 MST")
}

func plannedCommand() *cobra.Command {
	var in contract.PlannedWorkInput
	var starts, last, repeats string
	var lasts time.Duration
	list := &cobra.Command{Use: "list", Short: "List planned work", Args: cobra.NoArgs,
		RunE: with(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			rows, err := c.PlannedWork(cmd.Context())
			if err != nil {
				return err
			}
			return show(cmd, rows, workColumns()...)
		})}
	add := &cobra.Command{Use: "add", Short: "Plan work: faults of some sites are not told meanwhile", Args: cobra.NoArgs,
		Example: `  inkpost planned add --site KET-07 --lasts 2h --reason "the router is being replaced"
  inkpost planned add --provider "Kettle Cable" --starts 2026-12-06T01:00 --zone Europe/London --lasts 4h --every weekly`,
		RunE: with(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			var err error
			if in.Minutes, err = wholeMinutes("lasts", lasts); err != nil {
				return err
			}
			if in.Starts, err = wallClock("starts", starts, in.Zone); err != nil {
				return err
			}
			if in.Last, err = wallClock("last", last, in.Zone); err != nil {
				return err
			}
			in.Repeats = fault.Repeats(repeats)
			w, err := c.PlanWork(cmd.Context(), in)
			if err != nil {
				return err
			}
			say(cmd, "Work %d is planned at %s: from %s for %s, %s.", w.ID, w.Where, inZone(w.From, w.Zone),
				pace.Length(time.Duration(w.Minutes)*time.Minute), w.Repeats)
			return nil
		})}
	f := add.Flags()
	f.StringVar(&in.Site, "site", "", "at this site")
	f.StringVar(&in.Tag, "tag", "", "at sites with this tag")
	f.StringVar(&in.Provider, "provider", "", "at sites with a link of this provider")
	f.StringVar(&starts, "starts", "", "when, by the clock of the time zone: 2026-12-06T01:00 (default: now)")
	f.DurationVar(&lasts, "lasts", 0, "how long, such as 90m or 3h")
	f.StringVar(&in.Zone, "zone", "UTC", "the time zone by whose clock it starts and ends, such as Europe/London")
	f.StringVar(&repeats, "every", "once", "once, daily, weekly or monthly")
	f.StringVar(&last, "last", "", "it does not start after this: 2027-03-01T00:00 (default: no end)")
	f.StringVar(&in.Reason, "reason", "", "what is done")
	end := removal("end WORK", "End planned work, or call it off", 1,
		func(cmd *cobra.Command, c *client.Client, args []string) (string, error) {
			id, err := numbered("planned work", "planned list", args[0])
			if err != nil {
				return "", err
			}
			return "Work " + args[0] + " is ended: faults are told again.", c.EndWork(cmd.Context(), id)
		})
	c := &cobra.Command{Use: "planned", Short: "Planned work, during which nobody is told of faults"}
	c.AddCommand(list, add, end)
	return c
}

// wallClock reads a time by the clock of a time zone, or with an offset of its own.
func wallClock(flag, text, zone string) (time.Time, error) {
	if text == "" {
		return time.Time{}, nil
	}
	l, err := time.LoadLocation(zone)
	if err != nil {
		return time.Time{}, usagef("--zone %q is no time zone; give one such as Europe/London, or UTC", zone)
	}
	for _, layout := range []string{"2006-01-02T15:04", time.DateTime, "2006-01-02 15:04", time.RFC3339, time.DateOnly} {
		if t, err := time.ParseInLocation(layout, text, l); err == nil {
			return t, nil
		}
	}
	return time.Time{}, usagef("--%s %q is not a time; write 2026-12-06T01:00", flag, text)
}
