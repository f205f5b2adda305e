package cli

import (
	"errors"
	"fmt"
	"net/url"
	"strings"

	"github.com/spf13/cobra"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/core/checkup"
	"inkpost.example/inkpost/internal/daemon"
)

func standingTone(s checkup.Standing) tone {
	return map[checkup.Standing]tone{checkup.Good: proven, checkup.Attention: unsettled, checkup.Wrong: wrong, checkup.Untried: faded}[s]
}

func checkColumns() []column[checkup.Point] {
	return []column[checkup.Point]{
		{title: "part", text: func(c checkup.Point) string { return string(c.Part) }},
		{title: "name", text: func(c checkup.Point) string { return c.Name }},
		{title: "standing", text: func(c checkup.Point) string { return string(c.Standing) },
			tone: func(c checkup.Point) tone { return standingTone(c.Standing) }},
		{title: "seen", text: func(c checkup.Point) string { return c.Seen }},
		{title: "fix", text: func(c checkup.Point) string { return orDash(c.Fix) }},
	}
}

// errUnwell ends the command where something is wrong: the reader knows by the exit code.
var errUnwell = errors.New("something is wrong with this installation; see above")

func doctorCommand() *cobra.Command {
	var state string
	var of database
	var all bool
	c := &cobra.Command{Use: "doctor", Short: "Look whether this installation of Ink Post is well, and say what to mend",
		Args: cobra.NoArgs,
		Long: `Look at the installation from inside and outside: the database and its schema, disks, clocks, the newest
backup, resolvers, vantage points, the ports that the world has to reach (tried from each vantage point
elsewhere), each zone's delegation and name servers, the mail server, and the certificate.

Where the service does not answer, the database and the disks of this machine are looked at, if
--database-url (or INKPOST_DATABASE_URL), or the server's file (--config), says where the database is.

Exit code 0: nothing is wrong. 1: something is wrong. What needs attention is no failure.`,
		Example: "  inkpost doctor\n  inkpost doctor --all\n  inkpost doctor --format json\n" +
			"  inkpost doctor --database-url postgres://inkpost@127.0.0.1:5432/inkpost",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := connect(cmd)
			if err != nil {
				return err
			}
			var found []checkup.Point
			paint := painter(coloured(cmd))
			format, _ := cmd.Flags().GetString("format")
			asTable := format == "table"
			tell := func(one checkup.Point) {
				if asTable && (all || one.Standing != checkup.Good) {
					sayCheck(cmd, paint, one)
				}
				found = append(found, one)
			}
			database, err := of.at()
			if err != nil {
				return err
			}
			if err := examine(cmd, c, database, state, tell); err != nil {
				return err
			}
			if !asTable {
				if err := show(cmd, found, checkColumns()...); err != nil {
					return err
				}
			} else {
				say(cmd, "%s", tally(found))
			}
			if checkup.Worst(found) == checkup.Wrong {
				return errUnwell
			}
			return nil
		}}
	of.flags(c, "the server's PostgreSQL database, for where the server does not answer")
	c.Flags().StringVar(&state, "state-dir", stateDir(), "where the server keeps its copy of the zones, for the same case")
	c.Flags().BoolVar(&all, "all", false, "print what is good as well")
	return c
}

// examine asks the server, or looks at what is on this machine where it does not answer.
func examine(cmd *cobra.Command, c *client.Client, database, state string, tell func(checkup.Point)) error {
	ready, err := c.Ready(cmd.Context())
	serving := checkup.Serving{URL: c.Base(), Ready: ready.Ready, Words: ready.Database, Role: ready.Role}
	if err != nil {
		serving.Trouble = err.Error()
		var away *client.Unreachable
		if errors.As(err, &away) {
			serving.Trouble = away.Err.Error()
			if request := new(url.Error); errors.As(away.Err, &request) {
				serving.Trouble = request.Err.Error() // without the URL, which is said already
			}
		}
	}
	tell(serving.Judge())
	if err == nil {
		return c.Checkup(cmd.Context(), tell)
	}
	if database == "" {
		return nil
	}
	list, err := daemon.Examine(cmd.Context(), database, state)
	for _, one := range list {
		tell(one)
	}
	return err
}

// sayCheck prints one thing that was looked at, and what to do about it.
func sayCheck(cmd *cobra.Command, paint func(tone, string) string, c checkup.Point) {
	const width = 92
	indent := strings.Repeat(" ", len(checkup.Attention)+2)
	mark := paint(standingTone(c.Standing), pad(string(c.Standing), len(checkup.Attention))) + "  "
	for _, line := range wrapped(fmt.Sprintf("%s, %s: %s", c.Part, c.Name, c.Seen), width) {
		say(cmd, "%s%s", mark, line)
		mark = indent
	}
	if c.Fix != "" {
		for _, line := range wrapped("Do: "+c.Fix, width) {
			say(cmd, "%s%s", indent, line)
		}
	}
}

// tally counts checks by standing.
func tally(list []checkup.Point) string {
	counts := map[checkup.Standing]int{}
	for _, c := range list {
		counts[c.Standing]++
	}
	words := fmt.Sprintf("%d looked at: %d good", len(list), counts[checkup.Good])
	for _, s := range []checkup.Standing{checkup.Attention, checkup.Wrong, checkup.Untried} {
		if counts[s] > 0 {
			words += fmt.Sprintf(", %d %s", counts[s], map[checkup.Standing]string{checkup.Attention: "that need attention",
				checkup.Wrong: "wrong", checkup.Untried: "that could not be tried"}[s])
		}
	}
	return words + "."
}
