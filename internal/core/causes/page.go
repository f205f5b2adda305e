package causes

import (
	"fmt"
	"strings"
)

// Prediction is what a cause predicts of one sign, in words.
type Prediction struct {
	Sign   string   `json:"sign"`
	Values []string `json:"values"`
	Check  Check    `json:"check,omitempty"` // that brings the sign about
	Hard   bool     `json:"hard"`            // another value excludes the cause
}

// InWords says what a cause predicts, a sign at a time.
func (c Cause) InWords() (out []Prediction) {
	for _, s := range Signs() {
		set := c.Predicts[s]
		if set == 0 {
			continue
		}
		one := Prediction{Sign: s.String(), Check: s.Check(), Hard: s.Hard()}
		for _, v := range set.Values() {
			one.Values = append(one.Values, s.Words(v))
		}
		out = append(out, one)
	}
	return out
}

var actorWords = map[Actor]string{AtTheDesk: "the installer, from the desk", OnSite: "somebody at the site", TheProvider: "the internet " +
	"provider", Nobody: "nobody has to: it passes"}

// Words says who it is.
func (a Actor) Words() string { return actorWords[a] }

// Page is the page of a cause in docs/causes, in Markdown.
func Page(c Cause) string {
	var b strings.Builder
	fmt.Fprintf(&b, "# %s\n\n%s.\n\n**Next step:** %s\n\n", c.Slug, Fill(c.So, nil), Fill(c.Next, nil))
	fmt.Fprintf(&b, "- At the hop: %s\n- Takes: the %s\n- Who can mend it: %s\n", c.Hop, c.Scope, c.Actor.Words())
	if c.Soon {
		b.WriteString("- It can wait for the next visit\n")
	}
	if !c.Ranked() {
		b.WriteString("\nIt is seen directly, and not weighed against other causes.\n")
		return b.String()
	}
	b.WriteString("\n## What it predicts\n\n| sign | may be | else | comes from |\n|---|---|---|---|\n")
	for _, p := range c.InWords() {
		otherwise, check := "speaks against it", string(p.Check)
		if p.Hard {
			otherwise = "excludes it"
		}
		if check == "" {
			check = "every probe"
		}
		fmt.Fprintf(&b, "| %s | %s | %s | %s |\n", p.Sign, strings.Join(p.Values, "; "), otherwise, check)
	}
	return b.String()
}

// Index is the page that lists all causes, in Markdown.
func Index() string {
	var b strings.Builder
	b.WriteString("# Causes\n\nMade from the table in internal/core/causes: `make causes`.\n\n" +
		"| cause | at | what is so | who |\n|---|---|---|---|\n")
	for _, c := range table {
		fmt.Fprintf(&b, "| [%s](%s.md) | %s | %s | %s |\n", c.Slug, c.Slug, c.Hop, Fill(c.So, nil), c.Actor.Words())
	}
	return b.String()
}
