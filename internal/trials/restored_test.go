package trials_test

import (
	"fmt"
	"net"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/daemon"
	"inkpost.example/inkpost/internal/store"
	"inkpost.example/inkpost/internal/testbed"
)

func TestANewerSchemaEndsTheProgramWithThatReason(t *testing.T) {
	t.Parallel()
	database := testbed.Database(t)
	start(t, func(o *options) { o.Database = database }).Stop()
	query(t, database, `INSERT INTO goose_db_version (version_id, is_applied) VALUES (99999, true)`)
	_, err := daemon.Start(t.Context(), daemon.Options{Database: database, HTTP: "127.0.0.1:0", DNS: "127.0.0.1:0"})
	var newer store.ErrNewerSchema
	require.ErrorAs(t, err, &newer)
	require.ErrorContains(t, err, "a newer inkpost has used it; run that one")
	require.EqualValues(t, 99999, newer.Has)
}

func TestARestartRewritesNoHistory(t *testing.T) {
	t.Parallel()
	database := testbed.Database(t)
	s := start(t, func(o *options) { o.Database = database })
	s.Record(t, "KET-07")
	s.Name(t, "KET-07")
	s.Device(t, "KET-07", "recorder")
	at, err := net.Listen("tcp", "127.96.0.7:0")
	require.NoError(t, err)
	defer at.Close()
	require.NoError(t, s.Router(t, "KET-07").Announce(t.Context(), "127.96.0.7"))
	stages := func(s *testbed.Service) []contract.Stage {
		moves, err := s.Client.Moves(t.Context(), contract.MoveQuery{Limit: 1})
		require.NoError(t, err)
		return moves[0].Stages
	}
	soon(t, 5*time.Second, "the move is answered", func() bool {
		return slices.ContainsFunc(stages(s), func(is contract.Stage) bool { return is.Name == "answered" && !is.At.IsZero() })
	})
	query(t, database, `UPDATE move SET noticed_at = noticed_at - interval '60 days',
		received_at = received_at - interval '60 days', recorded_at = recorded_at - interval '60 days',
		published_at = published_at - interval '60 days', answered_at = answered_at - interval '60 days'`)
	before := stages(s)
	s.Stop()
	again := start(t, func(o *options) { o.Database = database })
	_, err = again.Client.AddService(t.Context(), "KET-07",
		contract.ServiceInput{Name: "page", Device: "recorder", Kind: "tcp", External: fmt.Sprint(at.Addr().(*net.TCPAddr).Port),
			Interval: 1})
	require.NoError(t, err)
	story, err := again.Client.ProbeNow(t.Context(), "KET-07", "page")
	require.NoError(t, err)
	require.Equal(t, "reachable", string(story.State), "%v", story)
	soon(t, 5*time.Second, "it is probed", func() bool {
		svc, err := again.Client.Service(t.Context(), "KET-07", "page")
		require.NoError(t, err)
		return svc.State == "reachable"
	})
	require.Equal(t, before, stages(again), "neither the restart nor a service that came later changes a finished move")
	consistent(t, database)
}

func TestAZoneThatWasRestoredGoesOnAfterWhatWasSeen(t *testing.T) {
	t.Parallel()
	for _, from := range []string{"the copy on disk", "a secondary"} {
		t.Run(from, func(t *testing.T) {
			database, state, log := testbed.Database(t), t.TempDir(), &said{}
			s := start(t, func(o *options) { o.Database, o.StateDir = database, state })
			s.Record(t, "KET-07")
			s.Name(t, "KET-07")
			require.NoError(t, s.Router(t, "KET-07").Announce(t.Context(), "198.51.100.7"))
			if from == "a secondary" { // it has a much newer zone than the database
				second := secondary(t, 5000000)
				_, err := s.Client.EditZone(t.Context(), zone, client.Fields{"notify": []string{second}})
				require.NoError(t, err)
			}
			seen := testbed.Serial(s.DNS, zone)
			soon(t, 10*time.Second, "the copy is up to date",
				func() bool { _, err := os.Stat(filepath.Join(state, "zones.copy")); return err == nil })
			s.Stop()
			if from == "a secondary" {
				require.NoError(t, os.Remove(filepath.Join(state, "zones.copy")))
				seen = 5000000
			} else {
				query(t, database, `UPDATE zone SET serial = 1`) // as an older dump would
			}
			again := start(t, func(o *options) { o.Database, o.StateDir, o.Log = database, state, log.log() })
			soon(t, 5*time.Second, "the serial goes on", func() bool { return names.SerialAfter(testbed.Serial(again.DNS, zone), seen) })
			require.Contains(t, log.String(), "serial had gone back, as after a restore")
		})
	}
}

// secondary is a name server with a zone of a serial.
func secondary(t *testing.T, serial uint32) string {
	t.Helper()
	handler := dns.HandlerFunc(func(w dns.ResponseWriter, r *dns.Msg) {
		m := new(dns.Msg).SetReply(r)
		m.Authoritative = true
		rr, _ := dns.NewRR(fmt.Sprintf("%s. 60 IN SOA ns1.%s. post.%s. %d 3600 300 1209600 30", zone, zone, zone, serial))
		m.Answer = []dns.RR{rr}
		_ = w.WriteMsg(m)
	})
	up := make(chan string, 1)
	server := &dns.Server{Addr: "127.0.0.1:0", Net: "udp", Handler: handler}
	server.NotifyStartedFunc = func() { up <- server.PacketConn.LocalAddr().String() }
	go func() { _ = server.ListenAndServe() }()
	t.Cleanup(func() { _ = server.Shutdown() })
	return <-up
}

func TestAServiceThatStartsBeforeItsDatabaseAnswersFromItsCopy(t *testing.T) {
	t.Parallel()
	database, away := testbed.OwnDatabase(t)
	state := t.TempDir()
	s := start(t, func(o *options) { o.Database, o.StateDir = database, state })
	s.Record(t, "KET-07")
	name := s.Name(t, "KET-07")
	require.NoError(t, s.Router(t, "KET-07").Announce(t.Context(), "198.51.100.7"))
	serial := testbed.Serial(s.DNS, zone)
	s.Stop() // the copy has what was answered last
	away()

	log := &said{}
	begin := func() *daemon.Daemon {
		d, err := daemon.Start(t.Context(), daemon.Options{Database: database, HTTP: "127.0.0.1:0", DNS: "127.0.0.1:0",
			StateDir: state, Log: log.log()})
		require.NoError(t, err)
		t.Cleanup(d.Stop)
		return d
	}
	d := begin()
	require.Equal(t, "198.51.100.7", testbed.Resolve(d.DNS, name))
	require.Equal(t, serial, testbed.Serial(d.DNS, zone), "with the last serial")
	is, code := ready(t, d.URL)
	require.Equal(t, 503, code)
	require.False(t, is.Ready)
	require.Contains(t, is.Names, "copy")
	require.Contains(t, log.String(), "a zone is answered from the copy on disk")
	require.Equal(t, 503, request(t, "GET", d.URL+"/api/v1/sites", s.Key).StatusCode)
	d.Stop()

	// A copy that is damaged is not answered from.
	file := filepath.Join(state, "zones.copy")
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	text[len(text)-9] ^= 1
	require.NoError(t, os.WriteFile(file, text, 0o600))
	d = begin()
	require.Empty(t, testbed.Resolve(d.DNS, name))
	require.Contains(t, log.String(), "is damaged, and is not used")
}
