package daemon_test

import (
	"context"
	"fmt"
	"net"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/checkup"
	"inkpost.example/inkpost/internal/core/team"
	"inkpost.example/inkpost/internal/daemon"
	"inkpost.example/inkpost/internal/lab"
	"inkpost.example/inkpost/internal/lab/mailsink"
	"inkpost.example/inkpost/internal/testbed"
)

// found is what a checkup says of one thing, by "part, name".
func found(ctx context.Context, t require.TestingT, c *client.Client, name string) checkup.Point {
	var out checkup.Point
	var all []string
	err := c.Checkup(ctx, func(one checkup.Point) {
		all = append(all, string(one.Part)+", "+one.Name)
		if all[len(all)-1] == name {
			out = one
		}
	})
	require.NoError(t, err)
	require.Contains(t, all, name)
	return out
}

func listening(t *testing.T) net.Listener {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	return l
}

// The parent zone's server and a secondary are real ones; all name servers have the same port, as they have 53 in the world.
func TestACheckupSeesTheInstallationFromInsideAndOutside(t *testing.T) {
	t.Parallel()
	port := testbed.FreePort(t)
	testbed.StartKnotPrimary(t, testbed.Primary{Zone: "saltmarsh.example", Key: "k.example.", Secret: "c2FsdG1hcnNoc2FsdG1hcnNo",
		Host: "127.113.0.1", Listen: port, Records: `@ NS ns
ns A 127.113.0.1
isles NS ns1.isles
isles NS ns2.isles
ns1.isles A 127.113.0.2
ns2.isles A 127.113.0.3
`})
	resolver, err := lab.NewResolver()
	require.NoError(t, err)
	t.Cleanup(resolver.Close)
	sink, l := mailsink.New(nil), listening(t)
	go func() { _ = sink.Serve(l) }()
	t.Cleanup(sink.Close)
	keys, err := daemon.ReadSecretRing([]byte(daemon.NewSecretKey()))
	require.NoError(t, err)
	s := testbed.Start(t, func(o *testbed.Options) {
		o.DNS, o.ZonePort, o.Resolvers = fmt.Sprintf("127.113.0.2:%d", port), fmt.Sprint(port), []string{resolver.Addr()}
		o.StateDir, o.Secrets = t.TempDir(), keys
		o.Mail = daemon.MailServer{Address: l.Addr().String(), Security: daemon.MailPlain, From: "post@saltmarsh.example"}
	})
	resolver.Ask(s.DNS)
	resolver.AskFor("saltmarsh.example", fmt.Sprintf("127.113.0.1:%d", port))
	resolver.AskFor(zone, s.DNS)
	key, err := s.Client.AddSigningKey(t.Context(), contract.SigningKeyInput{Name: "second.saltmarsh.example"})
	require.NoError(t, err)
	_, err = s.Client.AddZone(t.Context(), contract.ZoneInput{Apex: zone, Servers: []string{"ns1." + zone + "=127.113.0.2",
		"ns2." + zone + "=127.113.0.3"}, TransferKey: key.Name, Notify: []string{fmt.Sprintf("127.113.0.3:%d", port)}})
	require.NoError(t, err)
	lookout(t, s, "harbour", "127.113.9.1")

	second := found(t.Context(), t, s.Client, "zone, "+zone+" at ns2."+zone)
	require.Equal(t, checkup.Wrong, second.Standing)
	require.Contains(t, second.Seen, "does not answer")
	testbed.StartNSD(t, testbed.Secondary{Zone: zone, Primary: port, From: "127.113.0.2", Host: "127.113.0.3", Listen: port, Key: key.Name,
		Secret: key.Secret})
	require.EventuallyWithT(t, func(c *assert) {
		require.Equal(c, checkup.Good, found(t.Context(), c, s.Client, "zone, "+zone+" at ns2."+zone).Standing)
	}, 30*time.Second, 200*time.Millisecond)

	good := 0
	require.NoError(t, s.Client.Checkup(t.Context(), func(c checkup.Point) {
		if c.Part == checkup.Zone || c.Part == checkup.Database || c.Part == checkup.Mail || c.Part == checkup.Resolver {
			require.Equal(t, checkup.Good, c.Standing, "%+v", c)
			good++
		}
	}))
	require.Equal(t, 5+1+1+3, good)
	for _, door := range []string{"console", "names over UDP", "names over TCP", "STUN"} {
		c := found(t.Context(), t, s.Client, "port, "+door+" from harbour")
		require.Equal(t, checkup.Good, c.Standing, c.Seen)
	}
	require.Contains(t, found(t.Context(), t, s.Client, "port, redirects from harbour").Seen, "the service answers at port",
		"browsers ask at port 80")
	require.Contains(t, found(t.Context(), t, s.Client, "backup, newest").Seen, "none was ever made")

	sink.Behave(mailsink.Manners{CloseAt: "greet"})
	post := found(t.Context(), t, s.Client, "mail, server")
	require.Equal(t, checkup.Wrong, post.Standing)
	require.Contains(t, post.Seen, "closed the connection")

	_, technician := s.Join(t, "hanna", team.Technician)
	err = technician.Checkup(t.Context(), func(checkup.Point) { t.Error("told a technician something") })
	require.True(t, client.IsStatus(err, 403), "%v", err)
}

func TestAServerThatIsAwayIsExaminedFromItsMachine(t *testing.T) {
	t.Parallel()
	database := testbed.EmptyDatabase(t)
	list, err := daemon.Examine(t.Context(), database, t.TempDir())
	require.NoError(t, err)
	schema := list[2]
	require.Equal(t, "schema", schema.Name)
	require.Contains(t, schema.Seen, "0, and this program needs", "nobody has served it yet")
	list, err = daemon.Examine(t.Context(), strings.Replace(database, "inkpost", "nobody", 1)+"&connect_timeout=1", "/nowhere/at/all")
	require.NoError(t, err)
	require.Equal(t, checkup.Wrong, list[0].Standing)
	require.Equal(t, checkup.Wrong, list[1].Standing)
	_, err = daemon.Examine(t.Context(), "no url", "")
	require.ErrorContains(t, err, "database URL")
}
