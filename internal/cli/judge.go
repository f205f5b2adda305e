package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/causes"
)

func judgeCommand() *cobra.Command {
	var right bool
	var was, note string
	c := &cobra.Command{Use: "judge FAULT", Short: "Say whether the cause of a fault was right, or what it was", Args: cobra.ExactArgs(1),
		Example: "  inkpost fault judge 42 --right\n  inkpost fault judge 42 --was forward-missing --note \"the router was swapped\"",
		RunE: onFault(func(cmd *cobra.Command, c *client.Client, id int64, _ []string) error {
			if right && was != "" || !right && was == "" && note == "" {
				return usagef("give --right, or what it was: --was CAUSE, --note TEXT, or both")
			}
			j, err := c.JudgeFault(cmd.Context(), id, contract.FaultJudgementInput{Right: right, Actual: causes.Slug(was), Note: note})
			if err != nil {
				return err
			}
			say(cmd, "Noted by %s: %s", j.By, judgedWords(j))
			return nil
		})}
	c.Flags().BoolVar(&right, "right", false, "it was what was told")
	c.Flags().StringVar(&was, "was", "", "it was this cause (inkpost cause lists them)")
	c.Flags().StringVar(&note, "note", "", "in words")
	return c
}

func judgedWords(j contract.FaultJudgement) string {
	words := "it was this"
	if !j.Right {
		words = strings.TrimSuffix("it was something else: "+string(j.Actual), ": ")
	}
	if j.Note != "" {
		words += " (" + j.Note + ")"
	}
	return words
}

func accuracyCommand() *cobra.Command {
	return &cobra.Command{Use: "accuracy", Short: "Show how often each cause was told, and how often people said that it was right",
		Args: cobra.NoArgs, RunE: with(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			list, err := c.Accuracy(cmd.Context())
			if err != nil {
				return err
			}
			return show(cmd, list,
				column[contract.Accuracy]{title: "cause", text: func(a contract.Accuracy) string { return string(a.Cause) }},
				column[contract.Accuracy]{title: "told", text: func(a contract.Accuracy) string { return count(a.Told) }},
				column[contract.Accuracy]{title: "judged", text: func(a contract.Accuracy) string { return count(a.Judged) }},
				column[contract.Accuracy]{title: "right", text: func(a contract.Accuracy) string { return count(a.Right) }},
				column[contract.Accuracy]{title: "it was instead", text: func(a contract.Accuracy) string {
					var words []string
					for _, i := range a.Instead {
						name := string(i.Cause)
						if name == "" {
							name = "something else"
						}
						words = append(words, fmt.Sprintf("%s %d", name, i.Count))
					}
					return strings.Join(words, ", ")
				}})
		})}
}
