package cli

import (
	"fmt"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"inkpost.example/inkpost/internal/core/causes"
)

func causeCommand() *cobra.Command {
	var pages string
	c := &cobra.Command{Use: "cause [SLUG]", Short: "Say what a cause means, what it predicts and what to do; all causes without SLUG",
		Args: cobra.MaximumNArgs(1),
		ValidArgsFunction: func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
			var out []string
			for _, slug := range causes.Slugs() {
				out = append(out, string(slug))
			}
			return out, cobra.ShellCompDirectiveNoFileComp
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			switch {
			case pages != "":
				return writePages(pages)
			case len(args) == 0:
				return show(cmd, causes.Table(), causeColumns()...)
			}
			one, ok := causes.Find(causes.Slug(args[0]))
			if !ok {
				return usagef("there is no cause %q; inkpost cause lists them", args[0])
			}
			if format, _ := cmd.Flags().GetString("format"); format != "table" {
				return show(cmd, []causes.Cause{one}, causeColumns()...)
			}
			printCause(cmd, one)
			return nil
		}}
	c.Flags().StringVar(&pages, "pages", "", "write the page of every cause into this folder")
	_ = c.Flags().MarkHidden("pages")
	return c
}

func causeColumns() []column[causes.Cause] {
	return []column[causes.Cause]{
		{title: "cause", text: func(c causes.Cause) string { return string(c.Slug) }, tone: func(causes.Cause) tone { return strong }},
		{title: "hop", text: func(c causes.Cause) string { return string(c.Hop) }},
		{title: "who", text: func(c causes.Cause) string { return string(c.Actor) }},
		{title: "what is so", text: func(c causes.Cause) string { return causes.Fill(c.So, nil) }},
	}
}

func printCause(cmd *cobra.Command, c causes.Cause) {
	paint := painter(coloured(cmd))
	say(cmd, "%s", paint(strong, string(c.Slug)))
	for _, line := range wrapped(causes.Fill(c.So, nil)+".", 92) {
		say(cmd, "%s", line)
	}
	for _, line := range wrapped("Next: "+causes.Fill(c.Next, nil), 92) {
		say(cmd, "%s", line)
	}
	say(cmd, "\nAt the hop: %s. It takes the %s. Who can mend it: %s.", c.Hop, c.Scope, c.Actor.Words())
	if !c.Ranked() {
		say(cmd, "It is seen directly, and not weighed against other causes.")
		return
	}
	say(cmd, "\nWhat it predicts")
	for _, p := range c.InWords() {
		for i, v := range p.Values {
			word := "or"
			if i == 0 {
				word = p.Sign
			}
			say(cmd, "  %s  %s", pad(word, 36), v)
		}
	}
}

// writePages writes the pages of docs/causes.
func writePages(dir string) error {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	for _, c := range causes.Table() {
		if err := os.WriteFile(filepath.Join(dir, string(c.Slug)+".md"), []byte(causes.Page(c)), 0o644); err != nil {
			return fmt.Errorf("the page of %s: %w", c.Slug, err)
		}
	}
	return os.WriteFile(filepath.Join(dir, "README.md"), []byte(causes.Index()), 0o644)
}
