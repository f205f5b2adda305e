package main

import (
	"fmt"
	"strings"
)

// number prints a figure with as many digits as say something.
func number(x float64) string {
	switch {
	case x >= 100:
		return fmt.Sprintf("%.0f", x)
	case x >= 10:
		return fmt.Sprintf("%.1f", x)
	}
	return fmt.Sprintf("%.2f", x)
}

// shown is a figure in columns: the value, its goal, whether that is reached, and what it was measured beside.
func shown(m measured) (value, goal, word, beside string) {
	join := func(x float64) string { return number(x) + " " + m.Unit }
	if value = join(m.Value); m.Goal == 0 {
		return value, "", "", m.Beside
	}
	goal, word = "at most "+join(m.Goal), "reached"
	if m.Least {
		goal = "at least " + join(m.Goal)
	}
	if !m.Reached {
		word = "not reached"
	}
	return value, goal, word, m.Beside
}

// table is what the terminal shows.
func table(all report) string {
	var out strings.Builder
	fmt.Fprintf(&out, "\n%s\n", all.Machine)
	missed, goals, last := 0, 0, ""
	for _, m := range all.Figures {
		if m.Part != last {
			last = m.Part
			fmt.Fprintf(&out, "\n%s (%s, %s)\n", m.Part, m.Date, m.Commit)
		}
		value, goal, word, beside := shown(m)
		fmt.Fprintf(&out, "  %-92s %16s  %-20s %-12s %s\n", m.What, value, goal, word, beside)
		if m.Goal != 0 {
			goals++
		}
		if !m.Reached {
			missed++
		}
	}
	fmt.Fprintf(&out, "\n%d of %d goals reached\n", goals-missed, goals)
	return out.String()
}

// othersHad says how much of the machine others had, if they had any.
func othersHad(taken float64) string {
	if taken == 0 {
		return ""
	}
	return fmt.Sprintf(", the hypervisor gave %.1f %% of the processors to others", taken)
}

// page is docs/performance.md.
func page(all report) string {
	var out strings.Builder
	out.WriteString("# Performance\n\nWhat `make bench` measured; it writes this page and `performance.json` anew. " +
		"`make bench PARTS=\"answers,updates\"` measures some\nparts, and the others keep the figures that they had. " +
		"Peers run in the same run, their turns between ours, and medians count: of two machines\n" +
		"the figures differ, the ratios little.\n\n" +
		"Machine: " + all.Machine + ". Servers, PostgreSQL and whoever asks share its processors.\n")
	last := ""
	for _, m := range all.Figures {
		if m.Part != last {
			last = m.Part
			fmt.Fprintf(&out,
				"\n## %s\n\n%s, commit %s%s: `make bench PARTS=\"%s\"`\n\n| what | figure | goal | | beside |\n|---|---|---|---|---|\n",
				strings.ToUpper(m.Part[:1])+m.Part[1:], m.Date, m.Commit, othersHad(m.Taken), m.Program)
		}
		value, goal, word, beside := shown(m)
		fmt.Fprintf(&out, "| %s | %s | %s | %s | %s |\n", m.What, value, goal, word, beside)
	}
	return out.String()
}
