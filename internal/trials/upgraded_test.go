package trials_test

import (
	"os"
	"testing"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/daemon"
	"inkpost.example/inkpost/internal/testbed"
)

// What the demo of the first release had on record, as pg_dump wrote it, and two keys that it had given: nothing but made-up data.
const (
	firstRelease  = "testdata/first-release.dump"
	firstOwnerKey = "inkpost-RDFQ_qGDrdvbLkSYDJqRwMWplb54uHdWCFhlag5r4nY"
	firstAgentKey = "inkpost-qLqJspI-myG4YfEpvUYXpIXJQxDq7YuejIpaML6mupU" // of KET-07
	firstSerial   = 14
)

// firstAnswers are those of the first release.
var firstAnswers = map[string]string{
	"bak-02": "127.101.215.167", "bakery": "127.101.215.167", "bir-08": "127.103.132.53", "boa-09": "127.102.246.101",
	"cli-05": "127.102.204.162", "dis-01": "127.102.1.41", "fer-11": "127.103.154.113", "ket-07": "127.101.191.89",
	"lighthouse": "127.101.191.89", "oys-03": "127.102.111.124", "rad-06": "127.101.117.212", "sch-04": "127.101.34.135",
	"still": "127.102.1.41",
}

// Whoever has run Ink Post since its first release loses nothing by going on with this one.
func TestADatabaseOfTheFirstReleaseGoesOn(t *testing.T) {
	t.Parallel()
	database := testbed.EmptyDatabase(t)
	f, err := os.Open(firstRelease)
	require.NoError(t, err)
	defer f.Close()
	restored, err := daemon.Restore(t.Context(), database, f, daemon.Keys{})
	require.NoError(t, err)
	require.Equal(t, daemon.Restored{Sites: 10, Zones: 1}, restored)

	d, err := testbed.Bare(t, func(o *options) { o.Database = database })
	require.NoError(t, err)
	for name, address := range firstAnswers {
		require.Equal(t, address, testbed.Resolve(d.DNS, name+"."+testbed.Zone), name)
	}
	require.Greater(t, testbed.Serial(d.DNS, testbed.Zone), uint32(firstSerial))

	owner, err := client.New(d.URL, firstOwnerKey)
	require.NoError(t, err)
	ctx := t.Context()
	sites, err := owner.Sites(ctx)
	require.NoError(t, err)
	require.Len(t, sites, 10)
	moves, err := owner.Moves(ctx, contract.MoveQuery{Limit: 100})
	require.NoError(t, err)
	require.Len(t, moves, 73)
	require.Equal(t, "OYS-03", moves[0].Site)
	require.NotEmpty(t, moves[0].Stages)
	faults, err := owner.Faults(ctx, "", false)
	require.NoError(t, err)
	require.GreaterOrEqual(t, len(faults), 7)
	services := 0
	for _, s := range sites {
		list, err := owner.Services(ctx, s.Code)
		require.NoError(t, err)
		services += len(list)
		for _, one := range list {
			_, err := owner.History(ctx, s.Code, one.Name, moves[0].Noticed.AddDate(0, 0, -90), moves[0].Noticed)
			require.NoError(t, err, "%s of %s", one.Name, s.Code)
		}
	}
	require.Equal(t, 22, services)
	people, err := owner.People(ctx)
	require.NoError(t, err)
	require.Len(t, people, 1)
	require.Equal(t, "owner", string(people[0].Role), "whoever there was may do what they could")

	// The agent at the site goes on with its key, and what is edited now is kept.
	agent, err := client.New(d.URL, firstAgentKey)
	require.NoError(t, err)
	_, err = agent.Announce(ctx, testbed.Says("127.101.191.89"))
	require.NoError(t, err)
	_, err = owner.AddSite(ctx, contract.SiteInput{Code: "PIE-20", Name: "Harbour Office"})
	require.NoError(t, err)
}
