package cli

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
)

func sheetCommand() *cobra.Command {
	var as, file string
	var version int
	print := &cobra.Command{Use: "print SITE", Short: "Print the sheet of a site: for people, as HTML, PDF, Markdown or CSV",
		Args: cobra.ExactArgs(1),
		Example: `  inkpost sheet print KET-07
  inkpost sheet print KET-07 --as pdf --file KET-07.pdf
  inkpost sheet print KET-07 --version 2 --format json`,
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			format, _ := cmd.Flags().GetString("format")
			if as == "" && file != "" {
				as = map[string]string{".html": "html", ".pdf": "pdf", ".md": "markdown",
					".csv": "csv"}[strings.ToLower(filepath.Ext(file))]
			}
			switch {
			case as != "":
				if f, ok := cmd.OutOrStdout().(*os.File); as == "pdf" && file == "" && ok && term.IsTerminal(int(f.Fd())) {
					return usagef("a PDF is nothing for a terminal; name a file: --file %s.pdf", strings.ToUpper(args[0]))
				}
				return toFile(cmd, file, func(w io.Writer) error { return c.PrintSheet(cmd.Context(), args[0], version, as, w) })
			case format == "csv":
				return c.PrintSheet(cmd.Context(), args[0], version, "csv", cmd.OutOrStdout())
			}
			s, err := c.Sheet(cmd.Context(), args[0], version)
			if err != nil {
				return err
			}
			if format != "table" {
				return document(cmd.OutOrStdout(), format, s)
			}
			return sheetForPeople(cmd, s)
		})}
	print.Flags().StringVar(&as, "as", "", "html, pdf, markdown or csv (default: by the file's name, or for people)")
	print.Flags().StringVar(&file, "file", "", "write to this new file instead of standard output")
	print.Flags().IntVar(&version, "version", 0, "a version that was kept (default: as it is now)")
	list := &cobra.Command{Use: "list SITE", Short: "List the versions of a site's sheet that were kept", Args: cobra.ExactArgs(1),
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			rows, err := c.Sheets(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return show(cmd, rows,
				column[contract.SheetVersion]{title: "version", text: func(v contract.SheetVersion) string { return count(v.Version) }},
				column[contract.SheetVersion]{title: "kept", text: func(v contract.SheetVersion) string { return ago(v.At) },
					machine: func(v contract.SheetVersion) string { return stamp(v.At) }},
				column[contract.SheetVersion]{title: "by", text: func(v contract.SheetVersion) string { return v.By }},
				column[contract.SheetVersion]{title: "reason", text: func(v contract.SheetVersion) string { return orDash(v.Reason) }})
		})}
	var reason string
	keep := &cobra.Command{Use: "keep SITE", Short: "Keep the sheet as it is now, as a version: at a hand-over", Args: cobra.ExactArgs(1),
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			s, err := c.KeepSheet(cmd.Context(), args[0], reason)
			if err != nil {
				return err
			}
			say(cmd, "Version %d of the sheet of %s is kept.", s.Version, s.Code)
			for _, words := range s.Changes {
				say(cmd, "  %s", words)
			}
			return nil
		})}
	keep.Flags().StringVar(&reason, "reason", "", "what for, such as hand-over")
	return group("sheet", "A site's handover record", print, list, keep, shareCommand(), sharedCommand(), unshareCommand())
}

// sheetForPeople prints a sheet on a terminal, section by section.
func sheetForPeople(cmd *cobra.Command, s contract.Sheet) error {
	paint := painter(coloured(cmd))
	say(cmd, "%s  %s", paint(strong, s.Code), s.Name)
	if s.Version > 0 {
		say(cmd, "%s", paint(faded, fmt.Sprintf("version %d, kept %s by %s", s.Version, ago(s.At), s.By)))
	}
	if len(s.Changes) > 0 {
		say(cmd, "\n%s", paint(strong, "What changed since "+s.Since.Local().Format("2 Jan 2006")))
		for _, words := range s.Changes {
			say(cmd, "  %s", words)
		}
	}
	for _, x := range s.Sections() {
		say(cmd, "\n%s", paint(strong, x.Title))
		if x.Text != "" {
			for _, l := range wrapped(x.Text, 92) {
				say(cmd, "  %s", l)
			}
		}
		if len(x.Rows) > 0 {
			columns := make([]column[[]string], len(x.Columns))
			for i, title := range x.Columns {
				columns[i] = column[[]string]{title: title, text: func(r []string) string { return orDash(r[i]) }}
			}
			var b bytes.Buffer
			asTable(&b, coloured(cmd), terminalWidth(cmd), x.Rows, columns)
			say(cmd, "%s", strings.TrimRight(b.String(), "\n"))
		}
		for _, c := range x.Cards {
			fields := make([]string, len(c.Fields))
			for i, f := range c.Fields {
				fields[i] = f.Label + " " + f.Value
			}
			say(cmd, "  %s, %s: %s", c.Title, c.Where, strings.Join(fields, ", "))
		}
	}
	return nil
}

func shareCommand() *cobra.Command {
	var in contract.SheetLinkInput
	c := &cobra.Command{Use: "share SITE --whose WHO", Short: "Make a URL by which a customer reads the sheet, and nothing else",
		Args: cobra.ExactArgs(1), RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			l, err := c.ShareSheet(cmd.Context(), args[0], in)
			if err != nil {
				return err
			}
			if strings.HasPrefix(l.URL, "/") {
				l.URL = c.Base() + l.URL
			}
			say(cmd, "%s\nIt is shown once. It works until %s; to end it sooner: inkpost sheet unshare %s %d", l.URL,
				l.Expires.Local().Format("2 Jan 2006"), strings.ToUpper(args[0]), l.ID)
			return nil
		})}
	c.Flags().StringVar(&in.Whose, "whose", "", "who has it")
	c.Flags().IntVar(&in.Days, "days", 0, "how many days it works, 400 at most (30)")
	return c
}

func sharedCommand() *cobra.Command {
	return &cobra.Command{Use: "shared SITE", Short: "List the URLs by which customers read the sheet", Args: cobra.ExactArgs(1),
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			rows, err := c.SheetLinks(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return show(cmd, rows,
				column[contract.SheetLink]{title: "link", text: func(l contract.SheetLink) string { return fmt.Sprint(l.ID) }},
				column[contract.SheetLink]{title: "whose", text: func(l contract.SheetLink) string { return l.Whose }},
				column[contract.SheetLink]{title: "made by", text: func(l contract.SheetLink) string { return l.By }},
				column[contract.SheetLink]{title: "until", text: func(l contract.SheetLink) string {
					if !l.Revoked.IsZero() {
						return "revoked " + ago(l.Revoked)
					}
					return l.Expires.Local().Format("2006-01-02")
				}, machine: func(l contract.SheetLink) string { return stamp(l.Expires) }},
				column[contract.SheetLink]{title: "last used", text: func(l contract.SheetLink) string { return ago(l.Used) },
					machine: func(l contract.SheetLink) string { return stamp(l.Used) }})
		})}
}

func unshareCommand() *cobra.Command {
	return removal("unshare SITE LINK", "Revoke a customer's URL", 2, func(cmd *cobra.Command, c *client.Client, args []string) (string,
		error) {
		id, err := numbered("link to the sheet", "sheet shared "+args[0], args[1])
		if err != nil {
			return "", err
		}
		return "Link " + args[1] + " no longer works.", c.UnshareSheet(cmd.Context(), args[0], id)
	})
}
