package cli

import (
	"cmp"

	"github.com/spf13/cobra"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
)

func calendarCommand() *cobra.Command {
	run := with(func(cmd *cobra.Command, c *client.Client, _ []string) error {
		rows, err := c.Calendar(cmd.Context())
		if err != nil {
			return err
		}
		return show(cmd, rows,
			column[contract.CalendarEntry]{title: "from", text: func(e contract.CalendarEntry) string {
				return inZone(e.From.Local(),
					"Local")
			},
				machine: func(e contract.CalendarEntry) string { return stamp(e.From) }},
			column[contract.CalendarEntry]{title: "until", text: func(e contract.CalendarEntry) string {
				return inZone(e.Until.Local(),
					"Local")
			},
				machine: func(e contract.CalendarEntry) string { return stamp(e.Until) }},
			column[contract.CalendarEntry]{title: "what", text: func(e contract.CalendarEntry) string { return e.Title }},
			column[contract.CalendarEntry]{title: "words", text: func(e contract.CalendarEntry) string { return orDash(e.Words) }})
	})
	url := &cobra.Command{Use: "url LABEL", Short: "Make a secret URL that calendar programs read it from (iCalendar)",
		Args: cobra.ExactArgs(1),
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			k, err := c.AddCalendarKey(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			say(cmd, "%s/calendar/%s.ics", cmp.Or(k.Server, c.Base()), k.Secret)
			say(cmd, "Whoever has this URL reads the calendar, and nothing else. It is shown this once; inkpost key revoke %d ends it.",
				k.ID)
			return nil
		})}
	c := &cobra.Command{Use: "calendar", Short: "What is planned and what ends: work, changes of address, certificates, open doors",
		Args: cobra.NoArgs, RunE: run}
	c.AddCommand(&cobra.Command{Use: "list", Short: "List it", Args: cobra.NoArgs, RunE: run}, url)
	return c
}
