package cli

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/causes"
	"inkpost.example/inkpost/internal/core/notice"
	"inkpost.example/inkpost/internal/core/pace"
)

func noticeCommand() *cobra.Command {
	c := &cobra.Command{Use: "notice", Short: "Who is told what, and whether it reached them"}
	c.AddCommand(noticeLogCommand(), noticeShowCommand(), noticeAgainCommand(), noticeTestCommand(), ruleCommand(), addressCommand(),
		hookCommand(), pushCommand())
	return c
}

func noticeColumns() []column[contract.Notice] {
	return []column[contract.Notice]{
		{title: "notice", text: func(n contract.Notice) string { return fmt.Sprint(n.ID) }},
		{title: "when", text: func(n contract.Notice) string { return ago(n.Decided) },
			machine: func(n contract.Notice) string { return stamp(n.Decided) }},
		{title: "to", text: func(n contract.Notice) string { return strings.TrimPrefix(n.To, "person ") },
			tone: func(contract.Notice) tone { return strong }},
		{title: "by", text: func(n contract.Notice) string { return string(n.Way) }},
		{title: "state", text: noticeState, machine: func(n contract.Notice) string { return n.State },
			tone: func(n contract.Notice) tone {
				switch {
				case n.State == "failed":
					return wrong
				case n.State == "waiting":
					return unsettled
				}
				return plain
			}},
		{title: "subject", text: func(n contract.Notice) string { return n.Subject }},
		{title: "trouble", text: func(n contract.Notice) string { return orDash(n.Problem) }},
	}
}

func noticeState(n contract.Notice) string {
	switch {
	case n.State == "failed":
		return "given up"
	case n.State == "waiting" && n.Tries > 0:
		return "tried " + pace.Times(n.Tries)
	case n.State == "sent" && n.Done.Sub(n.Decided) > time.Minute:
		return "sent after " + pace.Length(n.Done.Sub(n.Decided))
	}
	return n.State
}

func noticeLogCommand() *cobra.Command {
	var failed, waiting bool
	var limit int
	c := &cobra.Command{Use: "log", Short: "List what was told to whom, and how it got there", Args: cobra.NoArgs,
		RunE: with(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			state := ""
			if failed && waiting {
				return usagef("give --failed or --waiting, not both")
			}
			if failed {
				state = "failed"
			}
			if waiting {
				state = "waiting"
			}
			rows, err := c.Notices(cmd.Context(), state, limit)
			if err != nil {
				return err
			}
			return show(cmd, rows, noticeColumns()...)
		})}
	c.Flags().BoolVar(&failed, "failed", false, "only those that were given up; inkpost notice again sends one again")
	c.Flags().BoolVar(&waiting, "waiting", false, "only those that are still tried")
	c.Flags().IntVar(&limit, "limit", 50, "how many, the newest first")
	return c
}

func onNotice(f func(cmd *cobra.Command, c *client.Client, id int64) error) func(*cobra.Command, []string) error {
	return with(func(cmd *cobra.Command, c *client.Client, args []string) error {
		id, err := numbered("notice", "notice log", args[0])
		if err != nil {
			return err
		}
		return f(cmd, c, id)
	})
}

func noticeShowCommand() *cobra.Command {
	return &cobra.Command{Use: "show NOTICE", Short: "Show what a notice says", Args: cobra.ExactArgs(1),
		RunE: onNotice(func(cmd *cobra.Command, c *client.Client, id int64) error {
			n, err := c.Notice(cmd.Context(), id)
			if err != nil {
				return err
			}
			if format, _ := cmd.Flags().GetString("format"); format != "table" {
				return showOne(cmd, n)
			}
			paint := painter(coloured(cmd))
			say(cmd, "%s  %s", paint(faded, "To"), strings.TrimSuffix(n.To+", "+n.Target, ", "))
			say(cmd, "%s  %s\n", paint(faded, "Subject"), paint(strong, n.Subject))
			for _, line := range strings.Split(strings.TrimRight(n.Text, "\n"), "\n") {
				say(cmd, "%s", line)
			}
			if n.Problem != "" {
				say(cmd, "\n%s", paint(wrong, noticeState(n.Notice)+": "+n.Problem))
			}
			return nil
		})}
}

func noticeAgainCommand() *cobra.Command {
	return &cobra.Command{Use: "again NOTICE", Short: "Send a notice that was given up on its way again", Args: cobra.ExactArgs(1),
		RunE: onNotice(func(cmd *cobra.Command, c *client.Client, id int64) error {
			err := c.SendAgain(cmd.Context(), id)
			if err == nil {
				say(cmd, "Notice %d is on its way again: inkpost notice log", id)
			}
			return err
		})}
}

func noticeTestCommand() *cobra.Command {
	var in contract.NoticeTest
	c := &cobra.Command{Use: "test", Short: "Send a test at once, and tell each step", Args: cobra.NoArgs,
		Example: "  inkpost notice test --person dispatch\n  inkpost notice test --hook desk",
		RunE: with(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			if (in.Person == "") == (in.Hook == "") {
				return usagef("give --person NAME or --hook NAME")
			}
			t, err := c.TestNotice(cmd.Context(), in)
			if err != nil {
				return err
			}
			if format, _ := cmd.Flags().GetString("format"); format != "table" {
				if err := showOne(cmd, t); err != nil {
					return err
				}
			} else {
				paint := painter(coloured(cmd))
				say(cmd, "A test to %s", paint(strong, orDash(t.Target)))
				for _, s := range t.Steps {
					mark, tn := "█", proven
					if !s.Good {
						mark, tn = "╳", wrong
					}
					for n, line := range wrapped(s.Words, 90) {
						if n > 0 {
							mark, s.Name = " ", ""
						}
						say(cmd, "  %s %s  %s", paint(tn, mark), pad(s.Name, 9), line)
					}
				}
			}
			if !t.Good {
				return fmt.Errorf("the test did not get there")
			}
			say(cmd, "It got there.")
			return nil
		})}
	c.Flags().StringVar(&in.Person, "person", "", "to a person")
	c.Flags().StringVar((*string)(&in.Way), "by", "", "to a person by mail, or by push to each browser of theirs (mail)")
	c.Flags().StringVar(&in.Hook, "hook", "", "to a webhook")
	return c
}

func ruleColumns() []column[notice.Rule] {
	return []column[notice.Rule]{
		{title: "rule", text: func(r notice.Rule) string { return fmt.Sprint(r.ID) }},
		{title: "to", text: func(r notice.Rule) string { return strings.TrimPrefix(r.To(), "person ") },
			tone: func(notice.Rule) tone { return strong }},
		{title: "by", text: func(r notice.Rule) string {
			var words []string
			for _, w := range notice.WaysOf(r) {
				words = append(words, string(w))
			}
			return strings.Join(words, ", ")
		}},
		{title: "of", text: func(r notice.Rule) string { return string(r.Topic) }},
		{title: "where", text: func(r notice.Rule) string { return r.Scope.Words() }},
		{title: "when", text: ruleWords},
	}
}

// ruleWords say under which conditions a rule tells.
func ruleWords(r notice.Rule) string {
	length := func(n int) string { return pace.Length(time.Duration(n) * time.Minute) }
	var words []string
	if r.Serious {
		words = append(words, "serious")
	}
	for _, c := range r.Causes {
		words = append(words, string(c))
	}
	if len(r.Hours.Days) > 0 {
		words = append(words, strings.Join(r.Hours.Days, " "))
	}
	if r.Topic == notice.Daily || r.Topic == notice.Weekly {
		words = append(words, "at "+cmp.Or(r.Hours.From, notice.DigestAt))
	} else if r.Hours.From != "" || r.Hours.Until != "" {
		words = append(words, strings.Trim(r.Hours.From+"–"+r.Hours.Until, "–"))
	}
	if r.Hours.Zone != "" {
		words = append(words, r.Hours.Zone)
	}
	if r.AfterMinutes > 0 {
		words = append(words, "unacknowledged for "+length(r.AfterMinutes))
	}
	if r.AgainMinutes > 0 {
		words = append(words, "again after "+length(r.AgainMinutes))
	}
	if r.GatherMinutes > 0 {
		words = append(words, "gathered for "+length(r.GatherMinutes))
	}
	if len(words) == 0 {
		return "at once"
	}
	return strings.Join(words, ", ")
}

func ruleCommand() *cobra.Command {
	var r notice.Rule
	var causeNames []string
	var topic string
	var ways []string
	var after, again, gather time.Duration
	list := &cobra.Command{Use: "list", Short: "List who is told of what", Args: cobra.NoArgs,
		RunE: with(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			rows, err := c.NoticeRules(cmd.Context())
			if err != nil {
				return err
			}
			return show(cmd, rows, ruleColumns()...)
		})}
	add := &cobra.Command{Use: "add", Short: "Have a person or a webhook told of something", Args: cobra.NoArgs,
		Example: `  inkpost notice rule add --person dispatch --of faults --serious
  inkpost notice rule add --person owner --of faults --after 30m
  inkpost notice rule add --person dispatch --of moves --site KET-07 --from 07:00 --until 19:00 --zone Europe/London
  inkpost notice rule add --hook desk --of faults
  inkpost notice rule add --person owner --of weekly --day mon --from 07:00`,
		RunE: with(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			r.Topic = notice.Topic(topic)
			for _, w := range ways {
				r.Ways = append(r.Ways, notice.Way(w))
			}
			for _, name := range causeNames {
				r.Causes = append(r.Causes, causes.Slug(name))
			}
			r.AfterMinutes, r.AgainMinutes, r.GatherMinutes = int(after/time.Minute), int(again/time.Minute), int(gather/time.Minute)
			added, err := c.AddNoticeRule(cmd.Context(), r)
			if err == nil {
				say(cmd, "Rule %d: %s is told of %s at %s: %s.", added.ID, strings.TrimPrefix(added.To(), "person "), added.Topic,
					added.Scope.Words(), ruleWords(added))
			}
			return err
		})}
	f := add.Flags()
	f.StringVar(&r.Person, "person", "", "to this person")
	f.StringVar(&r.Hook, "hook", "", "to this webhook")
	f.StringSliceVar(&ways, "by", nil, "to a person by mail, push or both (mail); browsers subscribe in the console")
	f.StringVar(&topic, "of", "faults", "faults, moves, or a digest: daily, weekly")
	f.StringVar(&r.Site, "site", "", "only of this site")
	f.StringVar(&r.Tag, "tag", "", "only of sites with this tag")
	f.StringVar(&r.Provider, "provider", "", "only of sites with a link of this provider")
	f.StringSliceVar(&causeNames, "cause", nil, "only of faults with this cause; give it again for each")
	f.BoolVar(&r.Serious, "serious", false, "only of faults that cut somebody off or leave a door open")
	f.StringSliceVar(&r.Hours.Days, "day", nil, "only on this day: mon, tue, …; give it again for each")
	f.StringVar(&r.Hours.From, "from", "", "only from this time of day on, as 07:00; a digest is sent then")
	f.StringVar(&r.Hours.Until, "until", "", "only until this time of day")
	f.StringVar(&r.Hours.Zone, "zone", "", "the time zone of these, such as Europe/London (default: UTC)")
	f.DurationVar(&after, "after", 0, "only when nobody has acknowledged the fault for so long: for a second person")
	f.DurationVar(&again, "again", 0, "tell it again after so long, while nobody has acknowledged it")
	f.DurationVar(&gather, "gather", 0, "put together what is due within so long")
	f.StringVar(&r.Subject, "subject", "", "template of the subject, with {site} {name} {provider} {cause} {what} {summary}")
	remove := removal("remove RULE", "Remove a rule", 1, func(cmd *cobra.Command, c *client.Client, args []string) (string, error) {
		id, err := numbered("rule", "notice rule list", args[0])
		if err != nil {
			return "", err
		}
		return "Rule " + args[0] + " is removed.", c.RemoveNoticeRule(cmd.Context(), id)
	})
	c := &cobra.Command{Use: "rule", Short: "Who is told of what"}
	c.AddCommand(list, add, remove)
	return c
}

func addressCommand() *cobra.Command {
	var in contract.AddresseeInput
	c := &cobra.Command{Use: "address [PERSON [MAIL]]", Short: "Show or say where notices to a person go", Args: cobra.MaximumNArgs(2),
		Example: "  inkpost notice address\n  inkpost notice address dispatch dispatch@saltmarsh.example --zone Europe/London",
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			rows, err := c.Addressees(cmd.Context())
			if err != nil {
				return err
			}
			if len(args) < 2 && !cmd.Flags().Changed("zone") {
				if len(args) == 1 {
					rows = slices.DeleteFunc(rows, func(a contract.Addressee) bool { return a.Name != args[0] })
				}
				return show(cmd, rows,
					column[contract.Addressee]{title: "person", text: func(a contract.Addressee) string { return a.Name }},
					column[contract.Addressee]{title: "mail", text: func(a contract.Addressee) string { return orDash(a.Mail) }},
					column[contract.Addressee]{title: "zone", text: func(a contract.Addressee) string { return orDash(a.Zone) }})
			}
			if len(args) == 0 {
				return usagef("say whose zone it is: inkpost notice address PERSON --zone ZONE")
			}
			for _, a := range rows { // what is not given stays
				if a.Name == args[0] {
					in.Mail = a.Mail
					if !cmd.Flags().Changed("zone") {
						in.Zone = a.Zone
					}
				}
			}
			if len(args) == 2 {
				in.Mail = args[1]
			}
			a, err := c.SetAddressee(cmd.Context(), args[0], in)
			if err == nil {
				say(cmd, "Notices to %s go to %s. Try it: inkpost notice test --person %s", a.Name, orDash(a.Mail), a.Name)
			}
			return err
		})}
	c.Flags().StringVar(&in.Zone, "zone", "", "the time zone that the person lives by, such as Europe/London")
	return c
}

func hookCommand() *cobra.Command {
	list := &cobra.Command{Use: "list", Short: "List webhooks", Args: cobra.NoArgs,
		RunE: with(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			rows, err := c.Hooks(cmd.Context())
			if err != nil {
				return err
			}
			return show(cmd, rows,
				column[contract.Hook]{title: "hook", text: func(h contract.Hook) string { return h.Name }},
				column[contract.Hook]{title: "URL", text: func(h contract.Hook) string { return h.URL }},
				column[contract.Hook]{title: "since", text: func(h contract.Hook) string { return ago(h.Created) },
					machine: func(h contract.Hook) string { return stamp(h.Created) }})
		})}
	add := &cobra.Command{Use: "add NAME URL", Short: "Add a webhook, and show the secret that seals what is sent",
		Args: cobra.ExactArgs(2),
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			h, err := c.AddHook(cmd.Context(), contract.HookInput{Name: args[0], URL: args[1]})
			if err != nil {
				return err
			}
			say(cmd, "Secret of %s, shown this once: %s", h.Name, h.Secret)
			say(cmd,
				"Each request has Ink-Post-Sealed-At and Ink-Post-Seal: base64 of the HMAC-SHA-256 of that time, a line feed and the body.")
			say(cmd, "Next: inkpost notice test --hook %s, and inkpost notice rule add --hook %s --of faults", h.Name, h.Name)
			return nil
		})}
	remove := removal("remove NAME", "Remove a webhook with its rules", 1,
		func(cmd *cobra.Command, c *client.Client, args []string) (string, error) {
			return "Webhook " + args[0] + " is removed.", c.RemoveHook(cmd.Context(), args[0])
		})
	c := &cobra.Command{Use: "hook", Short: "Webhooks that notices go to"}
	c.AddCommand(list, add, remove)
	return c
}
