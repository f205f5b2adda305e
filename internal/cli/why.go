package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/causes"
	"inkpost.example/inkpost/internal/core/diagnose"
)

// sureWords say how sure a finding is.
var sureWords = map[causes.Sure]string{causes.Certain: "certain", causes.Likely: "likely", causes.Open: "the likeliest of several"}

func whyCommand() *cobra.Command {
	var all bool
	command := &cobra.Command{Use: "why SITE", Short: "Show the way to each service, hop by hop, and where it breaks",
		Args: cobra.ExactArgs(1),
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			if all {
				return whyAll(cmd, c, args[0])
			}
			s, err := c.Site(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			if format, _ := cmd.Flags().GetString("format"); format != "table" {
				return show(cmd, s.Paths,
					column[diagnose.Path]{title: "service", text: func(p diagnose.Path) string { return p.Service }},
					column[diagnose.Path]{title: "state", text: func(p diagnose.Path) string { return string(p.State) }},
					column[diagnose.Path]{title: "outcome", text: func(p diagnose.Path) string { return string(p.Outcome) }},
					column[diagnose.Path]{title: "breaks at", text: func(p diagnose.Path) string {
						if p.Finding == nil {
							return ""
						}
						return string(p.Finding.Hop)
					}},
					column[diagnose.Path]{title: "cause", text: func(p diagnose.Path) string {
						if p.Finding == nil {
							return ""
						}
						return string(p.Finding.Cause)
					}})
			}
			printPaths(cmd, s)
			return nil
		})}
	command.Flags().BoolVar(&all, "all", false, "show every cause that was weighed, with what speaks for and against it")
	return command
}

// whyAll shows every cause that was weighed.
func whyAll(cmd *cobra.Command, c *client.Client, code string) error {
	w, err := c.Why(cmd.Context(), code)
	if err != nil {
		return err
	}
	if format, _ := cmd.Flags().GetString("format"); format != "table" {
		return show(cmd, rankedRows(w), rankedColumns()...)
	}
	paint := painter(coloured(cmd))
	if len(w.Rankings) == 0 {
		say(cmd, "Nothing fails at %s that has to be explained.", w.Site)
	}
	for _, r := range w.Rankings {
		say(cmd, "%s  %s", paint(strong, strings.Join(r.Services, ", ")), sureWords[r.Sure])
		hidden := 0
		for i, one := range r.Causes {
			if one.Excluded && i >= shownMost {
				hidden++
				continue
			}
			printRanked(cmd, one)
		}
		if hidden > 0 {
			say(cmd, "  %s", paint(faded, fmt.Sprintf("%d more are excluded (--format json has them all)", hidden)))
		}
		if len(r.Unknown) > 0 {
			words := make([]string, len(r.Unknown))
			for i, check := range r.Unknown {
				words[i] = string(check)
			}
			say(cmd, "  Not known, for want of: %s", strings.Join(words, ", "))
		}
	}
	return nil
}

// shownMost is how many causes are shown, where the others are excluded.
const shownMost = 12

func printRanked(cmd *cobra.Command, one diagnose.RankedCause) {
	paint := painter(coloured(cmd))
	mark, t := fmt.Sprintf("%3.0f %%", 100*one.Share), plain
	if one.Excluded {
		mark, t = "  out", faded
	}
	say(cmd, "  %s  %s  %s", mark, paint(t, pad(string(one.Cause), 22)), paint(t, one.Summary))
	if !one.Excluded { // what speaks for it is of no use then
		printReasons(cmd, "+ ", one.For)
	}
	printReasons(cmd, "− ", one.Against)
}

func printReasons(cmd *cobra.Command, sign string, list []string) {
	paint := painter(coloured(cmd))
	for _, reason := range list {
		for n, line := range wrapped(reason, 84) {
			say(cmd, "           %s%s", paint(faded, []string{sign, "  "}[min(n, 1)]), paint(faded, line))
		}
	}
}

// rankedRow is one cause of one ranking, for machines.
type rankedRow struct {
	Services []string `json:"services"`
	diagnose.RankedCause
}

func rankedRows(w contract.Why) []rankedRow {
	out := []rankedRow{}
	for _, r := range w.Rankings {
		for _, one := range r.Causes {
			out = append(out, rankedRow{r.Services, one})
		}
	}
	return out
}

func rankedColumns() []column[rankedRow] {
	return []column[rankedRow]{
		{title: "services", text: func(r rankedRow) string { return strings.Join(r.Services, " ") }},
		{title: "cause", text: func(r rankedRow) string { return string(r.Cause) }},
		{title: "share", text: func(r rankedRow) string { return fmt.Sprintf("%.4f", r.Share) }},
		{title: "excluded", text: func(r rankedRow) string { return yes(r.Excluded) }},
		{title: "for", text: func(r rankedRow) string { return strings.Join(r.For, "; ") }},
		{title: "against", text: func(r rankedRow) string { return strings.Join(r.Against, "; ") }},
	}
}

// printDoubt says what else it could be, and what would tell.
func printDoubt(cmd *cobra.Command, f diagnose.Finding) {
	paint := painter(coloured(cmd))
	lines := make([]string, 0, len(f.Also)+1)
	for _, also := range f.Also {
		lines = append(lines, "It could also be: "+also)
	}
	if f.Check != nil {
		lines = append(lines, fmt.Sprintf("To be sure (%s): %s.", f.Check.Name, strings.TrimSuffix(f.Check.Ask, ".")))
	}
	for _, text := range lines {
		for n, line := range wrapped(text, 92) {
			say(cmd, "  %s%s", strings.Repeat("  ", min(n, 1)), paint(faded, line))
		}
	}
}

// beside lists what is wrong at a site and explains none of its services.
func beside(s contract.Site) (out []contract.Fault) {
	told := map[string]bool{}
	for _, p := range s.Paths {
		if p.Finding != nil {
			told[p.Finding.Key()] = true
		}
	}
	for _, f := range s.Faults {
		if !told[f.Finding.Key()] {
			out = append(out, f)
		}
	}
	return out
}

func printPaths(cmd *cobra.Command, s contract.Site) {
	paint := painter(coloured(cmd))
	say(cmd, "%s  %s", paint(strong, s.Code), s.Name)
	if len(s.Paths) == 0 {
		say(cmd, "No services are on record. Add one: inkpost service add %s NAME --device DEVICE --external PORT", s.Code)
	}
	marks := map[diagnose.Verdict]string{diagnose.Proven: "█", diagnose.Unsettled: "▒", diagnose.Broken: "╳", diagnose.Unproven: "·"}
	told := map[string]bool{}
	for _, p := range s.Paths {
		say(cmd, "\n%s  %s", paint(strong, p.Service), paint(tones[p.Verdict], p.Words))
		width := 0
		for _, st := range p.Stations {
			width = max(width, len([]rune(st.Value)))
		}
		for _, st := range p.Stations {
			line := fmt.Sprintf("  %s %s  %s  %s", marks[st.Verdict], pad(string(st.Hop), 8), pad(st.Value, width), st.Detail)
			if st.Verdict == diagnose.Broken {
				line += "  ◄ breaks here"
			}
			say(cmd, "%s", paint(tones[st.Verdict], strings.TrimRight(line, " ")))
		}
		if f := p.Finding; f != nil {
			if told[f.Key()] {
				say(cmd, "  %s  %s", f.Summary+".", paint(faded, "as above"))
				continue
			}
			told[f.Key()] = true
			say(cmd, "  %s  %s", paint(strong, f.Summary+"."), paint(faded, sureWords[f.Sure]+", "+string(f.Cause)))
			for _, evidence := range f.Evidence {
				for n, line := range wrapped(evidence, 90) {
					say(cmd, "  %s%s", strings.Repeat("  ", 1+min(n, 1)), paint(faded, line))
				}
			}
			for _, line := range wrapped("Next: "+f.Next, 92) {
				say(cmd, "  %s", line)
			}
			printDoubt(cmd, *f)
		}
		for _, r := range p.Remarks {
			for _, line := range wrapped(r.Words+". "+r.Next, 92) {
				say(cmd, "  %s", paint(faded, line))
			}
		}
	}
	printBeside(cmd, s)
}

// printBeside shows what is wrong at the site beside the ways to its services.
func printBeside(cmd *cobra.Command, s contract.Site) {
	paint := painter(coloured(cmd))
	for i, f := range beside(s) {
		if i == 0 {
			say(cmd, "\n%s", paint(strong, "Also at this site"))
		}
		say(cmd, "  %s", paint(strong, f.Finding.Summary+"."))
		for _, evidence := range f.Finding.Evidence {
			for n, line := range wrapped(evidence, 90) {
				say(cmd, "  %s%s", strings.Repeat("  ", 1+min(n, 1)), paint(faded, line))
			}
		}
		for _, line := range wrapped("Next: "+f.Finding.Next, 92) {
			say(cmd, "  %s", line)
		}
	}
}
