package team_test

import (
	"bytes"
	"context"
	"encoding/json"
	"io"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/bcrypt"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/team"
	"inkpost.example/inkpost/internal/testbed"
)

func TestSomebodyIsInvitedOnceAndLeaves(t *testing.T) {
	t.Parallel()
	s := testbed.Start(t, nil)
	ctx := t.Context()
	_, err := s.Client.InvitePerson(ctx, contract.PersonInvitationInput{Name: "dispatch", Role: "root"})
	require.ErrorContains(t, err, "owner, technician and viewer are")
	_, err = s.Client.InvitePerson(ctx, contract.PersonInvitationInput{Name: "dispatch", Role: team.Owner, Tags: []string{"north"}})
	require.ErrorContains(t, err, "an owner sees all sites")
	_, err = s.Client.InvitePerson(ctx, contract.PersonInvitationInput{Name: "owner", Role: team.Viewer})
	require.True(t, client.IsStatus(err, http.StatusConflict), "%v", err)
	first, err := s.Client.InvitePerson(ctx, contract.PersonInvitationInput{Name: "dispatch", Role: team.Viewer})
	require.NoError(t, err)
	inv, err := s.Client.InvitePerson(ctx, contract.PersonInvitationInput{Name: "dispatch", Role: team.Technician, Tags: []string{"North"}})
	require.NoError(t, err)
	list, err := s.Client.Invitations(ctx)
	require.NoError(t, err)
	require.Len(t, list, 1, "the newer one takes the other's place")
	require.Empty(t, list[0].Code, "codes are shown once")

	anonymous, err := client.New(s.URL, "")
	require.NoError(t, err)
	_, err = anonymous.Accept(ctx, first.Code, s.Password)
	require.ErrorContains(t, err, "this invitation is not valid")
	shown, err := anonymous.Invited(ctx, inv.Code)
	require.NoError(t, err)
	require.Equal(t, "dispatch", shown.Name)
	for _, weak := range []string{"short", "password123", "dispatch2026", "qwertyuiop", strings.Repeat("ab", 101)} {
		_, err = anonymous.Accept(ctx, inv.Code, weak)
		require.True(t, client.IsStatus(err, http.StatusUnprocessableEntity), "%s: %v", weak, err)
	}
	var wait sync.WaitGroup
	var mu sync.Mutex
	var visits []*client.Visit
	for range 4 { // the same link, opened by several at once
		wait.Go(func() {
			if v, err := anonymous.Accept(ctx, inv.Code, s.Password); err == nil {
				mu.Lock()
				defer mu.Unlock()
				visits = append(visits, v)
			}
		})
	}
	wait.Wait()
	require.Len(t, visits, 1, "it works once")
	require.Equal(t, []string{"north"}, visits[0].Session().Tags)
	key, err := visits[0].AddKey(ctx, "laptop")
	require.NoError(t, err)
	c, err := client.New(s.URL, key.Secret)
	require.NoError(t, err)
	_, err = c.Sites(ctx)
	require.NoError(t, err)

	require.NoError(t, s.Client.RemovePerson(ctx, "dispatch"))
	_, err = c.Sites(ctx)
	require.True(t, client.IsStatus(err, http.StatusUnauthorized), "with their keys: %v", err)
	_, err = visits[0].Sessions(ctx)
	require.True(t, client.IsStatus(err, http.StatusUnauthorized), "and signed out: %v", err)
	require.ErrorContains(t, s.Client.RemovePerson(ctx, "owner"), "the only owner")
	role := team.Viewer
	_, err = s.Client.EditPerson(ctx, "owner", contract.PersonEdit{Role: &role})
	require.ErrorContains(t, err, "the only owner")
}

func TestTwoOwnersDoNotRemoveEachOther(t *testing.T) {
	t.Parallel()
	s := testbed.Start(t, nil)
	_, other := s.Join(t, "partner", team.Owner)
	var wait sync.WaitGroup
	results := make([]error, 2)
	wait.Go(func() { results[0] = s.Client.RemovePerson(t.Context(), "partner") })
	wait.Go(func() { results[1] = other.RemovePerson(t.Context(), "owner") })
	wait.Wait()
	require.True(t, (results[0] == nil) != (results[1] == nil), "%v", results)
}

func TestRightsChangeForKeysSessionsAndStreamsAtOnce(t *testing.T) {
	t.Parallel()
	s := testbed.Start(t, nil)
	ctx := t.Context()
	visit, c := s.Join(t, "dispatch", team.Technician)
	_, err := c.AddSite(ctx, contract.SiteInput{Code: "KET-07", Name: "Kettle Quay 7", Tags: []string{"north"}})
	require.NoError(t, err)
	made, err := visit.AddKey(ctx, "wall display")
	require.NoError(t, err)
	ended := make(chan error, 1)
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, s.URL+"/api/v1/events", nil)
	require.NoError(t, err)
	req.Header.Set("Authorization", "Bearer "+made.Secret)
	stream, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer stream.Body.Close()
	go func() { _, err := io.Copy(io.Discard, stream.Body); ended <- err }()
	viewer, tags := team.Viewer, []string{"south"}
	_, err = s.Client.EditPerson(ctx, "dispatch", contract.PersonEdit{Role: &viewer, Tags: &tags})
	require.NoError(t, err)
	_, err = c.AddSite(ctx, contract.SiteInput{Code: "BAK-02", Name: "Bakery"})
	require.ErrorContains(t, err, "dispatch is a viewer, who may not edit; ask an owner")
	_, err = c.Site(ctx, "KET-07")
	require.True(t, client.IsStatus(err, http.StatusNotFound), "%v", err)
	list, err := c.Sites(ctx)
	require.NoError(t, err)
	require.Empty(t, list)
	select {
	case <-ended:
	case <-time.After(5 * time.Second):
		t.Fatal("a stream that was begun with other rights goes on")
	}
	sessions, err := visit.Sessions(ctx)
	require.NoError(t, err)
	require.Len(t, sessions, 1)
	require.Equal(t, "127.0.0.1", sessions[0].Address)
	require.True(t, sessions[0].Current)
}

func TestAPasswordIsReplacedByWhoKnowsIt(t *testing.T) {
	t.Parallel()
	s := testbed.Start(t, nil)
	ctx := t.Context()
	anonymous, err := client.New(s.URL, "")
	require.NoError(t, err)
	here, err := anonymous.SignIn(ctx, "owner", s.Password)
	require.NoError(t, err)
	there, err := anonymous.SignIn(ctx, "owner", s.Password)
	require.NoError(t, err)
	sessions, err := here.Sessions(ctx)
	require.NoError(t, err)
	require.Len(t, sessions, 3, "with that of the test itself")
	err = here.ReplacePassword(ctx, contract.NewPassword{Old: "kettle", Password: "gannet-ferry-tarpaulin"})
	require.ErrorContains(t, err, "is not the password that you have now")
	require.NoError(t, here.ReplacePassword(ctx, contract.NewPassword{Old: s.Password, Password: "gannet-ferry-tarpaulin"}))
	_, err = there.Sessions(ctx)
	require.True(t, client.IsStatus(err, http.StatusUnauthorized), "the others are ended: %v", err)
	_, err = s.Client.Sites(ctx)
	require.NoError(t, err, "keys stay")
	require.NoError(t, here.ReplacePassword(ctx, contract.NewPassword{Old: "gannet-ferry-tarpaulin", Password: s.Password, EndKeys: true}))
	_, err = s.Client.Sites(ctx)
	require.True(t, client.IsStatus(err, http.StatusUnauthorized), "unless they are to end, too: %v", err)

	second, err := anonymous.SignIn(ctx, "owner", s.Password)
	require.NoError(t, err)
	sessions, err = here.Sessions(ctx)
	require.NoError(t, err)
	require.Len(t, sessions, 2)
	for _, one := range sessions {
		if !one.Current {
			require.NoError(t, here.EndSession(ctx, one.ID))
		}
	}
	_, err = second.Sessions(ctx)
	require.True(t, client.IsStatus(err, http.StatusUnauthorized), "%v", err)
}

func TestAnOlderHashIsTakenOverAtTheNextSignIn(t *testing.T) {
	t.Parallel()
	s := testbed.Start(t, nil)
	ctx := t.Context()
	old, err := bcrypt.GenerateFromPassword([]byte(s.Password), bcrypt.MinCost)
	require.NoError(t, err)
	require.NoError(t, s.Store().PutPassword(ctx, "owner", old, time.Time{}, false))
	anonymous, err := client.New(s.URL, "")
	require.NoError(t, err)
	for range 2 {
		_, err = anonymous.SignIn(ctx, "owner", s.Password)
		require.NoError(t, err)
		p, err := s.Store().PersonNamed(ctx, "owner")
		require.NoError(t, err)
		require.True(t, bytes.HasPrefix(p.PasswordHash, []byte("$argon2id$v=19$m=47104,t=1,p=1$")), "%s", p.PasswordHash)
	}
}

func TestAKeyDoesWhatItWasMadeFor(t *testing.T) {
	t.Parallel()
	s := testbed.Start(t, nil)
	ctx := t.Context()
	_, err := s.Client.AddKey(ctx, contract.KeyInput{Label: "x", May: "administer"})
	require.ErrorContains(t, err, "read, probe and edit are")
	made, err := s.Client.AddKey(ctx, contract.KeyInput{Label: "wall display", May: "read"})
	require.NoError(t, err)
	reads, err := client.New(s.URL, made.Secret)
	require.NoError(t, err)
	_, err = reads.Sites(ctx)
	require.NoError(t, err)
	_, err = reads.AddSite(ctx, contract.SiteInput{Code: "KET-07", Name: "x"})
	require.ErrorContains(t, err, "this key was made to read, and this takes one to edit")
	_, err = reads.AddKey(ctx, contract.KeyInput{Label: "more", May: "edit"})
	require.ErrorContains(t, err, "read at most")
	another, err := reads.AddKey(ctx, contract.KeyInput{Label: "same"})
	require.NoError(t, err)
	require.Equal(t, "read", another.May)
	_, visitor := s.Join(t, "museum", team.Viewer)
	require.True(t, client.IsStatus(visitor.RevokeKey(ctx, made.ID), http.StatusNotFound), "somebody else's")
	keys, err := visitor.Keys(ctx)
	require.NoError(t, err)
	require.Len(t, keys, 1)
	require.Equal(t, "read", keys[0].May)
}

// acts reads the audit trail.
func acts(t *testing.T, c *client.Client, pairs ...string) []contract.Act {
	t.Helper()
	q := url.Values{}
	for i := 0; i < len(pairs); i += 2 {
		q.Set(pairs[i], pairs[i+1])
	}
	list, err := c.Acts(t.Context(), q)
	require.NoError(t, err)
	return list
}

func TestWhoDidWhatIsWrittenDown(t *testing.T) {
	t.Parallel()
	database := testbed.Database(t)
	s := testbed.Start(t, func(o *testbed.Options) { o.Database = database })
	ctx := t.Context()
	_, err := s.Client.AddSite(ctx, contract.SiteInput{Code: "KET-07", Name: "Kettle Quay 7", Tags: []string{"north"}})
	require.NoError(t, err)
	_, err = s.Client.EditSite(ctx, "KET-07", client.Fields{"note": "the still hums"})
	require.NoError(t, err)
	_, err = s.Client.EditSite(ctx, "KET-07", client.Fields{"name": ""})
	require.Error(t, err)
	_, err = s.Client.AddSigningKey(ctx, contract.SigningKeyInput{Name: "push.example",
		Secret: "c2xpcHdheS1nYW5uZXQta2V0dGxlLWZlcnJ5LTAwMDE="})
	require.NoError(t, err)
	_, err = s.Client.AddDevice(ctx, "KET-07", contract.DeviceInput{Name: "recorder", MAC: "02:00:5e:07:00:01", Address: "192.168.1.20"})
	require.NoError(t, err)
	require.NoError(t, s.Client.RemoveDevice(ctx, "KET-07", "recorder"))
	anonymous, err := client.New(s.URL, "")
	require.NoError(t, err)
	_, err = anonymous.SignIn(ctx, "owner", "a wrong password")
	require.Error(t, err)

	list := acts(t, s.Client)
	require.Equal(t, "session", list[0].Kind)
	require.Equal(t, http.StatusUnauthorized, list[0].Status, "failed tries, too")
	require.Equal(t, "owner", list[0].Person)
	require.Equal(t, "127.0.0.1", list[0].Address)

	devices := acts(t, s.Client, "kind", "sites.devices")
	require.Len(t, devices, 2)
	require.Equal(t, "recorder", devices[0].Subject)
	require.Equal(t, "KET-07", devices[0].Site)
	require.JSONEq(t, `"192.168.1.20"`, string(field(t, devices[0].Before, "lan_address")))
	require.Empty(t, devices[0].After)
	require.JSONEq(t, `"192.168.1.20"`, string(field(t, devices[1].After, "lan_address")))

	sites := acts(t, s.Client, "kind", "sites", "site", "KET-07", "person", "owner")
	require.Len(t, sites, 5)
	edit := sites[3]
	require.JSONEq(t, `{"note": ""}`, string(edit.Before))
	require.JSONEq(t, `{"note": "the still hums"}`, string(edit.After))
	require.Equal(t, "test", edit.Key)
	require.Len(t, acts(t, s.Client, "failed", "true", "kind", "sites"), 1)

	var lines bytes.Buffer
	require.NoError(t, s.Client.ActLines(ctx, url.Values{}, &lines))
	require.Equal(t, len(list), bytes.Count(lines.Bytes(), []byte("\n")))
	require.NotContains(t, lines.String(), "c2xpcHdheS", "secrets are masked")
	require.NotContains(t, lines.String(), s.Password)
	require.NotContains(t, lines.String(), s.Key)

	db, err := pgx.Connect(ctx, database)
	require.NoError(t, err)
	defer db.Close(context.Background())
	_, err = db.Exec(ctx, `UPDATE audit SET person = 'nobody'`)
	require.ErrorContains(t, err, "only added to")
	_, err = db.Exec(ctx, `DELETE FROM audit`)
	require.ErrorContains(t, err, "only added to")
	_, err = db.Exec(ctx, `TRUNCATE audit`)
	require.ErrorContains(t, err, "only added to")
	n, err := s.Store().ForgetActs(ctx, time.Now().Add(time.Hour))
	require.NoError(t, err)
	require.EqualValues(t, len(list), n, "but by retention")
}

func field(t *testing.T, doc json.RawMessage, name string) json.RawMessage {
	t.Helper()
	var all map[string]json.RawMessage
	require.NoError(t, json.Unmarshal(doc, &all))
	return all[name]
}

func TestATeamSeesWhatWasDoneAtItsSites(t *testing.T) {
	t.Parallel()
	s := testbed.Start(t, nil)
	ctx := t.Context()
	for code, tag := range map[string]string{"KET-07": "north", "BAK-02": "south"} {
		_, err := s.Client.AddSite(ctx, contract.SiteInput{Code: code, Name: code, Tags: []string{tag}})
		require.NoError(t, err)
	}
	_, north := s.Join(t, "dispatch", team.Technician, "north")
	list := acts(t, north)
	require.Len(t, list, 1)
	require.Equal(t, "KET-07", list[0].Site)
	_, err := north.Acts(ctx, url.Values{"site": {"BAK-02"}})
	require.True(t, client.IsStatus(err, http.StatusNotFound), "%v", err)
}
