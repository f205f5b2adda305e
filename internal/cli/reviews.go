package cli

import (
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/site"
)

func adviceColumns() []column[site.Advice] {
	return []column[site.Advice]{
		{title: "port", text: func(a site.Advice) string { return fmt.Sprint(a.Port) }, tone: func(site.Advice) tone { return strong }},
		{title: "what", text: func(a site.Advice) string { return a.What }, tone: func(a site.Advice) tone {
			if a.Severe {
				return wrong
			}
			return unsettled
		}},
		{title: "grave", text: func(a site.Advice) string { return yes(a.Severe) }},
		{title: "on record as", text: func(a site.Advice) string { return orDash(a.Service) }},
		{title: "advice", text: func(a site.Advice) string { return a.Advice }},
	}
}

func reviewCommand() *cobra.Command {
	var consent string
	c := &cobra.Command{Use: "review SITE --consent WORDS",
		Short: "Look at a site's own address for ports that are commonly left open", Args: cobra.ExactArgs(1),
		Long: `Look at the site's own recorded address, and no other, for TCP ports that are commonly left open,
and give advice. --consent says who has agreed to it, and is kept with the result. A site is reviewed
once an hour at most.`,
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			bar := progressBar(cmd)
			r, err := c.Review(cmd.Context(), args[0], consent, bar)
			bar(0, 0)
			if err != nil {
				return err
			}
			return showReview(cmd, r)
		})}
	c.Flags().StringVar(&consent, "consent", "", "who has agreed to the review, and when, in words")
	return c
}

func showReview(cmd *cobra.Command, r contract.Review) error {
	if format, _ := cmd.Flags().GetString("format"); format == "json" || format == "yaml" {
		return showOne(cmd, r, column[contract.Review]{})
	}
	if format, _ := cmd.Flags().GetString("format"); format == "table" {
		say(cmd, "%d ports of %s were looked at, %d of them are open. Agreed: %s", len(r.Ports), r.Address, r.Open, r.Consent)
		if r.Problem != "" {
			say(cmd, "%s", r.Problem)
		}
		say(cmd, "")
	}
	return show(cmd, r.Findings, adviceColumns()...)
}

func reviewsCommand() *cobra.Command {
	return &cobra.Command{Use: "reviews SITE", Short: "List the reviews of a site", Args: cobra.ExactArgs(1),
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			rows, err := c.Reviews(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return show(cmd, rows,
				column[contract.Review]{title: "when", text: func(r contract.Review) string { return ago(r.Started) },
					machine: func(r contract.Review) string { return stamp(r.Started) }},
				column[contract.Review]{title: "address", text: func(r contract.Review) string { return r.Address }},
				column[contract.Review]{title: "open", text: func(r contract.Review) string { return fmt.Sprint(r.Open) }},
				column[contract.Review]{title: "findings", text: func(r contract.Review) string { return fmt.Sprint(len(r.Findings)) }},
				column[contract.Review]{title: "by", text: func(r contract.Review) string { return r.Person }},
				column[contract.Review]{title: "consent", text: func(r contract.Review) string { return r.Consent }})
		})}
}

// onTerminal reports whether somebody sees what is said beside the output.
func onTerminal(cmd *cobra.Command) bool {
	f, ok := cmd.ErrOrStderr().(*os.File)
	return ok && term.IsTerminal(int(f.Fd()))
}

// progressBar draws a bar on a terminal; elsewhere it is silent. 0 of 0 clears it.
func progressBar(cmd *cobra.Command) func(done, of int) {
	if !onTerminal(cmd) {
		return func(int, int) {}
	}
	f := cmd.ErrOrStderr()
	return func(done, of int) {
		if of == 0 {
			_, _ = fmt.Fprint(f, "\r\x1b[K")
			return
		}
		const width = 40
		full := width * done / of
		_, _ = fmt.Fprintf(f, "\r%s%s %3d %%", strings.Repeat("█", full), strings.Repeat("░", width-full), 100*done/of)
	}
}
