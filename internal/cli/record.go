package cli

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/declare"
	"inkpost.example/inkpost/internal/wire/recordfile"
)

func exportCommand() *cobra.Command {
	var kind, update string
	var template bool
	c := &cobra.Command{Use: "export", Short: "Write the record as a file: all of it as YAML or JSON, one kind as CSV", Args: cobra.NoArgs,
		Long: "Write the record as a file. --format yaml (the default) and json have all of it, without secrets; --format csv has one\n" +
			"kind. --update FILE brings a YAML file in step with the record, and keeps its comments and its order.",
		Example: "  inkpost export > record.yaml\n  inkpost export --format csv --kind services\n" +
			"  inkpost export --kind devices --template > devices.csv\n  inkpost export --update record.yaml",
		RunE: with(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			format, _ := cmd.Flags().GetString("format")
			switch {
			case kind != "" || template:
				format = "csv"
			case format == "table":
				format = "yaml"
			}
			if update == "" {
				return c.RecordFile(cmd.Context(), format, kind, template, cmd.OutOrStdout())
			}
			if format != "yaml" {
				return usagef("--update brings a YAML file in step; leave out --format and --kind")
			}
			return updateFile(cmd, c, update)
		})}
	c.Flags().StringVar(&kind, "kind", "", "sites, links, devices, services, hostnames or contacts, as CSV")
	c.Flags().BoolVar(&template, "template", false, "one line to go by instead of the record, as CSV")
	c.Flags().StringVar(&update, "update", "", "a YAML file to bring in step with the record")
	return c
}

// updateFile brings a YAML file in step with the record; it is replaced whole.
func updateFile(cmd *cobra.Command, c *client.Client, path string) error {
	was, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	var now, out bytes.Buffer
	if err := c.RecordFile(cmd.Context(), "yaml", "", false, &now); err != nil {
		return err
	}
	if err := recordfile.Update(&out, was, now.Bytes()); err != nil {
		return fmt.Errorf("%s: %w", path, err)
	}
	if bytes.Equal(was, out.Bytes()) {
		say(cmd, "%s is in step already.", path)
		return nil
	}
	mode := os.FileMode(0o600)
	if info, err := os.Stat(path); err == nil {
		mode = info.Mode().Perm()
	}
	next := path + ".new"
	if err := os.WriteFile(next, out.Bytes(), mode); err != nil {
		return err
	}
	if err := os.Rename(next, path); err != nil {
		return err
	}
	say(cmd, "%s is in step with the record now.", path)
	return nil
}

func importCommand() *cobra.Command {
	how := client.DeclareHow{Type: "text/csv"}
	c := &cobra.Command{Use: "import FILE --kind KIND", Short: "Put what a CSV file lists on record", Args: cobra.ExactArgs(1),
		Long: "Put what a CSV file lists on record: what is new is added, what is there is changed, and nothing is removed. Its first\n" +
			"line is the heading; a column that is not there leaves its field as it is. Nothing is taken where anything is wrong,\n" +
			"unless --line-by-line.",
		Example: "  inkpost export --kind devices --template > devices.csv\n  inkpost import devices.csv --kind devices --dry-run\n" +
			"  inkpost import customers.csv --kind sites --column \"Nr=code\" --column \"Kunde=name\" --column \"Colour=\"",
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			if how.Kind == "" {
				return usagef("--kind says what its lines are: sites, links, devices, services, hostnames or contacts")
			}
			return declareFile(cmd, c, args[0], how, true)
		})}
	c.Flags().StringVar(&how.Kind, "kind", "", "what its lines are: sites, links, devices, services, hostnames or contacts")
	c.Flags().StringArrayVar(&how.Columns, "column", nil, "HEADING=FIELD, what a heading stands for; HEADING= passes it over; repeatable")
	c.Flags().BoolVar(&how.DryRun, "dry-run", false, "only say what would be done, and what is wrong")
	c.Flags().BoolVar(&how.LineByLine, "line-by-line", false, "take the lines that are right, and leave out those that are wrong")
	return c
}

func applyCommand() *cobra.Command {
	how := client.DeclareHow{}
	var yes bool
	c := &cobra.Command{Use: "apply FILE", Short: "Bring the record in step with a file in YAML or JSON", Args: cobra.ExactArgs(1),
		Long: "Bring the record in step with a file in YAML or JSON: show what is added, changed and removed, and do it. A list that a\n" +
			"site of the file has is whole: what it leaves out is removed, and can be brought back for 30 days. Other sites stay,\n" +
			"unless the file begins with \"covers: everything\". A field that is left out stays as it is.",
		Example: "  inkpost export > record.yaml\n  inkpost apply record.yaml --dry-run\n  inkpost apply record.yaml --yes",
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			how.Type = "application/yaml"
			if strings.EqualFold(filepath.Ext(args[0]), ".json") {
				how.Type = "application/json"
			}
			return declareFile(cmd, c, args[0], how, yes)
		})}
	c.Flags().BoolVar(&how.DryRun, "dry-run", false, "only show the plan, and what is wrong")
	c.Flags().BoolVar(&yes, "yes", false, "do not ask before something is removed")
	return c
}

// declareFile brings the record in step with a file. Unless told so, it asks before anything is removed.
func declareFile(cmd *cobra.Command, c *client.Client, path string, how client.DeclareHow, yes bool) error {
	text, err := readFile(cmd, path)
	if err != nil {
		return err
	}
	plan := contract.Declared{}
	if how.DryRun || !yes {
		look := how
		look.DryRun = true
		if plan, err = c.Declare(cmd.Context(), bytes.NewReader(text), look, nil); err != nil {
			return err
		}
		if err := showPlan(cmd, plan); err != nil {
			return err
		}
		if len(plan.Flaws) > 0 && !how.LineByLine {
			return fmt.Errorf("%s: %d of its lines are wrong; nothing was changed", path, len(plan.Flaws))
		}
		if how.DryRun {
			return nil
		}
	}
	removed := 0
	for _, s := range plan.Steps {
		if s.Action == "remove" {
			removed++
		}
	}
	if removed > 0 {
		if err := sure(cmd, yes, fmt.Sprintf("%d of what is on record", removed)); err != nil {
			return err
		}
	}
	bar := progressBar(cmd)
	done, err := c.Declare(cmd.Context(), bytes.NewReader(text), how, bar)
	bar(0, 0)
	if err != nil {
		return err
	}
	if len(plan.Steps) == 0 {
		if err := showPlan(cmd, done); err != nil {
			return err
		}
	}
	if format, _ := cmd.Flags().GetString("format"); format == "table" {
		say(cmd, "%s", counted(done, "Done: "))
	}
	if len(done.Flaws) > 0 {
		return fmt.Errorf("%s: %d of its lines are wrong, and were left out", path, len(done.Flaws))
	}
	return nil
}

// readFile reads a file; - is what comes in.
func readFile(cmd *cobra.Command, path string) ([]byte, error) {
	if path == "-" {
		return io.ReadAll(cmd.InOrStdin())
	}
	return os.ReadFile(path)
}

// counted says how many steps of which kind there are.
func counted(d contract.Declared, before string) string {
	n := map[string]int{}
	for _, s := range d.Steps {
		n[s.Action]++
	}
	return fmt.Sprintf("%s%d added, %d changed, %d removed, %d as they were.", before, n["add"], n["change"], n["remove"], d.Unchanged)
}

// showPlan prints what a file comes to, and what is wrong with it.
func showPlan(cmd *cobra.Command, d contract.Declared) error {
	if format, _ := cmd.Flags().GetString("format"); format == "json" || format == "yaml" {
		return showOne(cmd, d)
	}
	tones := map[string]tone{"add": proven, "change": unsettled, "remove": wrong}
	if err := show(cmd, d.Steps,
		column[contract.DeclaredStep]{title: "step", text: func(s contract.DeclaredStep) string { return s.Action },
			tone: func(s contract.DeclaredStep) tone { return tones[s.Action] }},
		column[contract.DeclaredStep]{title: "site", text: func(s contract.DeclaredStep) string { return s.Site },
			tone: func(contract.DeclaredStep) tone { return strong }},
		column[contract.DeclaredStep]{title: "kind", text: func(s contract.DeclaredStep) string { return string(s.Kind) }},
		column[contract.DeclaredStep]{title: "name", text: func(s contract.DeclaredStep) string { return s.Name }},
		column[contract.DeclaredStep]{title: "what", text: fieldsOf}); err != nil {
		return err
	}
	if len(d.Flaws) > 0 {
		say(cmd, "")
		return show(cmd, d.Flaws, flawColumns()...)
	}
	return nil
}

// fieldsOf says which fields a step changes, and to what.
func fieldsOf(s contract.DeclaredStep) string {
	if s.Action == "remove" {
		return ""
	}
	var out []string
	for _, f := range s.Fields {
		if text := f.Field + " " + string(f.After); s.Action == "add" {
			out = append(out, text)
			continue
		}
		out = append(out, fmt.Sprintf("%s %s → %s", f.Field, f.Before, f.After))
	}
	return strings.Join(out, ", ")
}

func flawColumns() []column[declare.LineFlaw] {
	return []column[declare.LineFlaw]{
		{title: "line", text: func(f declare.LineFlaw) string { return fmt.Sprint(f.Line) }, tone: func(declare.LineFlaw) tone {
			return strong
		}},
		{title: "column", text: func(f declare.LineFlaw) string { return orDash(f.Column) }},
		{title: "wrong", text: func(f declare.LineFlaw) string { return f.Detail }, tone: func(declare.LineFlaw) tone { return wrong }},
	}
}
