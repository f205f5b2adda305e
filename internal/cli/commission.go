package cli

import (
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/commission"
)

var stepTones = map[commission.State]tone{commission.Done: proven, commission.Skipped: faded, commission.Failing: wrong,
	commission.Waiting: unsettled, commission.Later: faded}

func entryColumns() []column[commission.Entry] {
	return []column[commission.Entry]{
		{title: "step", text: func(e commission.Entry) string { return string(e.Step) }, tone: func(commission.Entry) tone {
			return strong
		}},
		{title: "of", text: func(e commission.Entry) string { return orDash(e.Subject) }},
		{title: "state", text: func(e commission.Entry) string { return string(e.State) },
			tone: func(e commission.Entry) tone { return stepTones[e.State] }},
		{title: "by", text: func(e commission.Entry) string {
			if e.State.Over() && e.By == "" {
				return "seen"
			}
			return orDash(e.By)
		}},
		{title: "when", text: func(e commission.Entry) string {
			if e.At.IsZero() {
				return "-"
			}
			return ago(e.At)
		}, machine: func(e commission.Entry) string { return stamp(e.At) }},
		{title: "what is seen", text: func(e commission.Entry) string {
			if e.State == commission.Later {
				return e.Title
			}
			return e.Words
		}},
	}
}

func missingColumns() []column[contract.ToCommission] {
	return []column[contract.ToCommission]{
		{title: "site", text: func(t contract.ToCommission) string { return t.Site }, tone: func(contract.ToCommission) tone {
			return strong
		}},
		{title: "name", text: func(t contract.ToCommission) string { return t.SiteName }},
		{title: "what", text: func(t contract.ToCommission) string { return t.Subject }},
		{title: "missing step", text: func(t contract.ToCommission) string { return orDash(string(t.Step)) }},
		{title: "what is seen", text: func(t contract.ToCommission) string { return t.Words }},
		{title: "next", text: func(t contract.ToCommission) string { return t.Do }},
	}
}

func commissionCommand() *cobra.Command {
	var services []string
	var once bool
	var limit time.Duration
	c := &cobra.Command{Use: "commission SITE", Short: "Bring services of a site into use, step by step", Args: cobra.ExactArgs(1),
		Long: `Goes through the steps of an installation in the order in which they work, for every service
of the site that is not in use yet, and watches each until it is so. At a terminal it asks:
Enter says that the step is done, "s REASON" passes it over, "q" leaves. The run stays open and
can be gone on with anywhere, by several people at once.`,
		Example: `  inkpost commission KET-07
  inkpost commission KET-07 --service view --for 10m --format json
  inkpost commission done KET-07 forward --service view`,
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			run, err := c.Commission(cmd.Context(), args[0], contract.CommissioningInput{Services: services})
			if err != nil {
				return err
			}
			if !once {
				if run, err = follow(cmd, c, run, limit); err != nil {
					return err
				}
			}
			if format, _ := cmd.Flags().GetString("format"); format == "json" || format == "yaml" {
				err = document(cmd.OutOrStdout(), format, run)
			} else if once || format == "csv" {
				err = show(cmd, run.Entries, entryColumns()...)
			}
			if err == nil && !once && !run.Finished {
				return fmt.Errorf("%s is not finished: %s left", run.Site, steps(run.Open))
			}
			return err
		})}
	c.Flags().StringSliceVar(&services, "service", nil, "only this service; may be given again (default: all that are not in use)")
	c.Flags().BoolVar(&once, "once", false, "say how it stands, and do not wait")
	c.Flags().DurationVar(&limit, "for", 0, "how long to wait; then it fails if steps are left (default: until it is finished)")
	list := &cobra.Command{Use: "list", Short: "List what is to be commissioned, and the step that is missing", Args: cobra.NoArgs,
		RunE: with(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			rows, err := c.ToCommission(cmd.Context())
			if err != nil {
				return err
			}
			if format, _ := cmd.Flags().GetString("format"); format != "table" {
				return show(cmd, rows, missingColumns()...)
			}
			for _, t := range rows {
				sayMissing(cmd, t)
			}
			if len(rows) == 0 {
				say(cmd, "Everything on record is in use.")
			}
			return nil
		})}
	status := &cobra.Command{Use: "show SITE", Short: "Show every step of the open commissioning, or of the last one",
		Args: cobra.ExactArgs(1),
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			run, err := c.Commissioning(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return showRun(cmd, run)
		})}
	end := &cobra.Command{Use: "end SITE", Short: "End a commissioning; its record is kept", Args: cobra.ExactArgs(1),
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			run, err := c.EndCommissioning(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			if run.Open == 0 {
				say(cmd, "The commissioning of %s is over.", run.Site)
			} else {
				say(cmd, "The commissioning of %s is over; %s left.", run.Site, steps(run.Open))
			}
			return nil
		})}
	prove := &cobra.Command{Use: "prove SITE SERVICE", Short: "Prove the way in before the device is there: the agent stands in for it",
		Args: cobra.ExactArgs(2), RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			p, err := c.ProveStep(cmd.Context(), args[0], args[1])
			if err != nil {
				return err
			}
			say(cmd, "%s\n%s", p.Words, p.Next)
			if !p.Proven {
				return errors.New("not proven")
			}
			return nil
		})}
	c.AddCommand(list, status, answerCommand("done", "Say that a step is done", commission.Done),
		answerCommand("skip", "Pass a step over, and say why", commission.Skipped),
		answerCommand("again", "Make a step due again", commission.Waiting), prove, end)
	return c
}

// sayMissing says in words what is to be commissioned, and what it lacks.
func sayMissing(cmd *cobra.Command, t contract.ToCommission) {
	paint := painter(coloured(cmd))
	say(cmd, "  %s  %s: %s", paint(strong, t.Site), t.Subject, paint(unsettled, t.Title))
	for _, line := range append(wrapped(t.Words, 92), wrapped("Next: "+t.Do, 92)...) {
		say(cmd, "      %s", line)
	}
}

func steps(n int) string {
	if n == 1 {
		return "1 step is"
	}
	return fmt.Sprintf("%d steps are", n)
}

func showRun(cmd *cobra.Command, run contract.Commissioning) error {
	if format, _ := cmd.Flags().GetString("format"); format == "json" || format == "yaml" {
		return document(cmd.OutOrStdout(), format, run)
	}
	return show(cmd, run.Entries, entryColumns()...)
}

// answerCommand makes a command by which a person answers a step.
func answerCommand(use, short string, state commission.State) *cobra.Command {
	var service, device, link, words string
	c := &cobra.Command{Use: use + " SITE STEP", Short: short, Args: cobra.ExactArgs(2),
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			run, err := c.Commissioning(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			e, err := answered(run, commission.Step(args[1]), service, device, link)
			if err != nil {
				return err
			}
			run, err = c.AnswerStep(cmd.Context(), args[0], contract.CommissioningAnswer{Step: e.Step, Subject: e.Subject, State: state,
				Words: words})
			if err != nil {
				return err
			}
			e, _ = commission.Find(run.Entries, e.Step, e.Subject)
			painted := painter(coloured(cmd))
			say(cmd, "%s", line(painted, e))
			if e.State == commission.Failing {
				say(cmd, "  %s", e.Next)
			}
			return nil
		})}
	c.Flags().StringVar(&service, "service", "", "of this service")
	c.Flags().StringVar(&device, "device", "", "of this device")
	c.Flags().StringVar(&link, "link", "", "of this link")
	c.Flags().StringVar(&words, "note", "", "what there is to say of it; why it is passed over")
	return c
}

// answered finds the entry that a command is about; of a step of which there is one only, nothing else has to be said.
func answered(run contract.Commissioning, step commission.Step, service, device, link string) (commission.Entry, error) {
	var of []commission.Entry
	var subjects, known []string
	for _, e := range run.Entries {
		if len(known) == 0 || known[len(known)-1] != string(e.Step) {
			known = append(known, string(e.Step))
		}
		if e.Step != step {
			continue
		}
		subjects = append(subjects, e.Subject)
		for kind, name := range map[string]string{"service": service, "device": device, "link": link} {
			if name != "" && e.Subject == kind+" "+name {
				return e, nil
			}
		}
		of = append(of, e)
	}
	switch {
	case len(of) == 0:
		return commission.Entry{}, usagef("%q is no step of this commissioning; its steps are %s", step, strings.Join(known, ", "))
	case len(of) > 1 || service+device+link != "":
		return commission.Entry{}, usagef("say of what: %s is a step of %s", step, strings.Join(subjects, ", "))
	}
	return of[0], nil
}

// line says in one line how a step stands.
func line(paint func(tone, string) string, e commission.Entry) string {
	mark := map[commission.State]string{commission.Done: "■", commission.Skipped: "–", commission.Failing: "✗", commission.Waiting: "□",
		commission.Later: "·"}[e.State]
	title := e.Title
	if e.Subject != "" {
		title += " (" + e.Subject + ")"
	}
	by := ""
	if e.By != "" && e.State.Over() {
		by = ", " + e.By
	}
	return fmt.Sprintf("%s %s: %s%s", paint(stepTones[e.State], mark), paint(strong, title), e.Words, by)
}
