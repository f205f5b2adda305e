package daemon_test

import (
	"io"
	"net/http"
	"strings"
	"testing"
	"time"

	ics "github.com/arran4/golang-ical"
	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/fault"
	"inkpost.example/inkpost/internal/testbed"
)

func TestACalendarIsReadByItsURLAndItsKeyOpensNothingElse(t *testing.T) {
	t.Parallel()
	s := testbed.Start(t, nil)
	c, ctx := s.Client, t.Context()
	s.Record(t, "KET-07")
	starts := time.Now().Add(48 * time.Hour).UTC().Truncate(time.Minute)
	_, err := c.PlanWork(ctx, contract.PlannedWorkInput{Scope: fault.Scope{Site: "KET-07"}, Starts: starts, Minutes: 90,
		Reason: "router; swap, all\nof it"})
	require.NoError(t, err)
	_, err = c.EditLink(ctx, "KET-07", "main", client.Fields{"change_at": starts.Add(time.Hour)})
	require.NoError(t, err)
	list, err := c.Calendar(ctx)
	require.NoError(t, err)
	require.Len(t, list, 2)
	require.Equal(t, "KET-07: Kettle Cable changes the address of link main", list[1].Title)

	k, err := c.AddCalendarKey(ctx, "phone")
	require.NoError(t, err)
	get := func(path string) (int, string) {
		r, err := http.Get(s.URL + path)
		require.NoError(t, err)
		defer r.Body.Close()
		body, err := io.ReadAll(r.Body)
		require.NoError(t, err)
		return r.StatusCode, string(body)
	}
	status, text := get("/calendar/" + k.Secret + ".ics")
	require.Equal(t, http.StatusOK, status)
	cal, err := ics.ParseCalendar(strings.NewReader(text))
	require.NoError(t, err)
	require.Len(t, cal.Events(), 2)
	at, err := cal.Events()[0].GetStartAt()
	require.NoError(t, err)
	require.True(t, at.Equal(starts))
	require.Equal(t, "Planned work: KET-07", cal.Events()[0].GetProperty(ics.ComponentPropertySummary).Value)

	bearer, err := client.New(s.URL, k.Secret)
	require.NoError(t, err)
	_, err = bearer.Overview(ctx)
	require.True(t, client.IsStatus(err, http.StatusForbidden), "%v", err)
	_, err = bearer.Calendar(ctx)
	require.True(t, client.IsStatus(err, http.StatusForbidden), "%v", err)
	status, _ = get("/announce/" + k.Secret + "?ipv4=198.51.100.9")
	require.NotEqual(t, http.StatusOK, status)
	status, _ = get("/calendar/" + s.Key + ".ics")
	require.Equal(t, http.StatusNotFound, status, "a person's key is no calendar's")
	require.NoError(t, c.RevokeKey(ctx, k.ID))
	status, _ = get("/calendar/" + k.Secret + ".ics")
	require.Equal(t, http.StatusNotFound, status)
}
