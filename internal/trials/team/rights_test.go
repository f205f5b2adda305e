package team_test

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/fault"
	"inkpost.example/inkpost/internal/core/team"
	"inkpost.example/inkpost/internal/testbed"
)

// foreign stands in everything that belongs to a site that the limited technician does not see.
const foreign = "lighthouse"

// callers are who calls, with a key each; the last is limited to sites tagged north.
var callers = []string{"owner", "technician", "viewer", "limited", "nobody"}

// TestEveryCallIsOpenToThoseWhoMay calls every route as everybody, for a site that the limited technician sees and one that they do not,
// and holds the answers against docs/rights.md, which is read by people.
func TestEveryCallIsOpenToThoseWhoMay(t *testing.T) {
	t.Parallel()
	s := testbed.Start(t, nil)
	keys := map[string]string{"owner": s.Key, "nobody": ""}
	for name, join := range map[string][]string{"technician": nil, "viewer": nil, "limited": {"north"}} {
		role := team.Technician
		if name == "viewer" {
			role = team.Viewer
		}
		visit, _ := s.Join(t, name, role, join...)
		key, err := visit.AddKey(t.Context(), "table")
		require.NoError(t, err)
		keys[name] = key.Secret
	}
	settleTwo(t, s.Client)

	_, doc := get(t, s, "/api/v1/openapi.json")
	described, err := openapi3.NewLoader().LoadFromData(doc)
	require.NoError(t, err)
	table, err := os.ReadFile("../../../docs/rights.md")
	require.NoError(t, err)
	var rows []string
	for path, item := range described.Paths.Map() {
		for method, op := range item.Operations() {
			if op.Extensions["x-inkpost-takes"] == nil { // for agents, vantage points, sessions, and whoever has a code
				continue
			}
			var may []string
			for _, who := range callers {
				if got := called(t, s.URL, keys[who], method, path, "KET-07"); got != http.StatusForbidden &&
					got != http.StatusUnauthorized {
					may = append(may, who)
				}
			}
			away := "-"
			if strings.Contains(path, "{code}") {
				away = fmt.Sprint(called(t, s.URL, keys["limited"], method, path, "LIG-04"))
				require.Contains(t, []string{"403", "404"}, away, "%s %s", method, path)
			}
			rows = append(rows, fmt.Sprintf("| %s %s | %s | %s | %s |", method, strings.TrimPrefix(path, "/api/v1"),
				op.Extensions["x-inkpost-takes"],
				strings.Join(may, ", "), op.Extensions["x-inkpost-concerns"]))
		}
	}
	slices.Sort(rows)
	var told []string
	for _, line := range strings.Split(string(table), "\n") {
		if strings.HasPrefix(line, "| GET ") || strings.HasPrefix(line, "| P") || strings.HasPrefix(line, "| DELETE ") {
			told = append(told, line)
		}
	}
	require.Equal(t, told, rows, "docs/rights.md says otherwise")
	for _, row := range rows { // whatever the table says
		require.NotContains(t, row, "nobody", row)
		if !strings.HasPrefix(row, "| GET ") && !strings.Contains(row, "| read |") {
			require.NotContains(t, row, "viewer", row)
		}
	}
}

// settleTwo records two sites with everything that a site can have.
func settleTwo(t *testing.T, c *client.Client) {
	t.Helper()
	ctx := t.Context()
	_, err := c.AddZone(ctx, contract.ZoneInput{Apex: testbed.Zone, Servers: []string{"ns1." + testbed.Zone + "=192.0.2.1"}})
	require.NoError(t, err)
	for _, x := range []struct{ code, word, tag, address string }{{"KET-07", "kettle", "north", "127.110.0.7"},
		{"LIG-04", foreign, "south", "127.110.0.4"}} {
		_, err := c.AddSite(ctx, contract.SiteInput{Code: x.code, Name: x.word, Note: x.word, Tags: []string{x.tag}})
		require.NoError(t, err)
		_, err = c.AddLink(ctx, x.code, contract.LinkInput{Label: "main", Mode: "static", IPv4: x.address, Provider: x.word})
		require.NoError(t, err)
		_, err = c.AddLink(ctx, x.code, contract.LinkInput{Label: "second", Provider: x.word})
		require.NoError(t, err)
		_, err = c.AddHostname(ctx, contract.HostnameInput{Name: x.word + "." + testbed.Zone, Site: x.code})
		require.NoError(t, err)
		_, err = c.AddAlias(ctx, contract.AliasInput{Name: "a-" + x.word + "." + testbed.Zone, Hostname: x.word + "." + testbed.Zone})
		require.NoError(t, err)
		_, err = c.AddRedirect(ctx, contract.RedirectInput{Name: "r-" + x.word + "." + testbed.Zone, Hostname: x.word + "." + testbed.Zone,
			Scheme: "https", Port: 8443})
		require.NoError(t, err)
		_, err = c.AddDevice(ctx, x.code, contract.DeviceInput{Name: x.word, MAC: "02:00:5e:07:00:01", Address: "192.168.1.20"})
		require.NoError(t, err)
		_, err = c.AddService(ctx, x.code, contract.ServiceInput{Name: x.word, Device: x.word, Kind: "http", External: "8080", Interval: 10,
			InUse: true})
		require.NoError(t, err)
		_, err = c.AddRouterKey(ctx, x.code, "second", x.word)
		require.NoError(t, err)
		_, err = c.AddSiteNote(ctx, x.code, x.word)
		require.NoError(t, err)
		_, err = c.PlanWork(ctx, contract.PlannedWorkInput{Minutes: 60, Reason: x.word, Scope: scopeOf(x.code)})
		require.NoError(t, err)
	}
}

// called makes a call that changes nothing, and returns the status. What is named beside the site is not on record, and what is edited was
// edited meanwhile.
func called(t *testing.T, server, key, method, path, code string) int {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), 2*time.Second) // what is waited for was begun
	defer cancel()
	for _, name := range []string{"label", "name", "service", "apex", "cause", "file"} {
		path = strings.ReplaceAll(path, "{"+name+"}", "gannet")
	}
	path = strings.ReplaceAll(strings.ReplaceAll(path, "{id}", "99999"), "{code}", code)
	req, err := http.NewRequestWithContext(ctx, method, server+path, nil)
	require.NoError(t, err)
	if key != "" {
		req.Header.Set("Authorization", "Bearer "+key)
	}
	if method != http.MethodGet {
		req.Header.Set("If-Match", `"0-0"`)
	}
	r, err := http.DefaultClient.Do(req)
	if errors.Is(err, context.DeadlineExceeded) {
		return http.StatusAccepted
	}
	require.NoError(t, err, "%s %s", method, path)
	defer r.Body.Close()
	return r.StatusCode
}

// TestNothingOfOtherSitesIsShown reads everything that can be read as somebody who sees one of two sites.
func TestNothingOfOtherSitesIsShown(t *testing.T) {
	t.Parallel()
	s := testbed.Start(t, nil)
	settleTwo(t, s.Client)
	require.Eventually(t, func() bool { // faults of both are told
		list, err := s.Client.Faults(t.Context(), "", true)
		return err == nil && len(list) >= 2
	}, 30*time.Second, 100*time.Millisecond)
	visit, _ := s.Join(t, "limited", team.Technician, "north")
	key, err := visit.AddKey(t.Context(), "reads")
	require.NoError(t, err)
	keys, err := s.Client.Keys(t.Context())
	require.NoError(t, err)
	faults, err := s.Client.Faults(t.Context(), "", true)
	require.NoError(t, err)

	_, doc := get(t, s, "/api/v1/openapi.json")
	described, err := openapi3.NewLoader().LoadFromData(doc)
	require.NoError(t, err)
	shown := 0
	for path, item := range described.Paths.Map() {
		op := item.Get
		if op == nil || op.Extensions["x-inkpost-takes"] == nil || strings.HasSuffix(path, "/events") {
			continue
		}
		for _, name := range []string{foreign, "a-" + foreign + "." + testbed.Zone, "r-" + foreign + "." + testbed.Zone,
			foreign + "." + testbed.Zone, testbed.Zone} {
			for _, id := range append(ids(keys), idsOfFaults(faults)...) {
				at := path
				for _, param := range []string{"label", "name", "service", "apex", "cause", "file"} {
					at = strings.ReplaceAll(at, "{"+param+"}", name)
				}
				at = strings.ReplaceAll(strings.ReplaceAll(at, "{id}", id), "{code}", "LIG-04")
				body, status := readAs(t, s.URL+at, key.Secret)
				if status == http.StatusOK {
					shown++
					require.NotContains(t, strings.ToLower(body), foreign, at)
					require.NotContains(t, body, "127.110.0.4", at)
				}
				if at == path {
					break
				}
			}
		}
	}
	require.Greater(t, shown, 20)
	for _, name := range []string{foreign, "r-" + foreign} {
		body, _ := readAs(t, s.URL+"/api/v1/names/check?name="+name+"."+testbed.Zone, key.Secret)
		require.Contains(t, body, "is taken already")
		require.NotContains(t, body, "LIG-04")
	}
	limited, err := client.New(s.URL, key.Secret)
	require.NoError(t, err)
	for name, try := range map[string]func() error{
		"fault": func() error { _, err := limited.NoteFault(t.Context(), faultAt(faults, "LIG-04"), "x"); return err },
		"taking a fault": func() error {
			known := true
			_, err := limited.TakeFault(t.Context(), faultAt(faults, "LIG-04"), contract.FaultTaking{Acknowledged: &known})
			return err
		},
		"judging a fault": func() error {
			_, err := limited.JudgeFault(t.Context(), faultAt(faults, "LIG-04"), contract.FaultJudgementInput{Right: true})
			return err
		},
		"hostname": func() error { return limited.RemoveHostname(t.Context(), foreign+"."+testbed.Zone) },
		"alias":    func() error { return limited.RemoveAlias(t.Context(), "a-"+foreign+"."+testbed.Zone) },
		"redirect": func() error { return limited.RemoveRedirect(t.Context(), "r-"+foreign+"."+testbed.Zone) },
		"another hostname": func() error {
			_, err := limited.AddHostname(t.Context(), contract.HostnameInput{Name: "x." + testbed.Zone, Site: "LIG-04"})
			return err
		},
		"another alias": func() error {
			_, err := limited.AddAlias(t.Context(), contract.AliasInput{Name: "y." + testbed.Zone, Hostname: foreign + "." + testbed.Zone})
			return err
		},
		"planned work": func() error {
			_, err := limited.PlanWork(t.Context(), contract.PlannedWorkInput{Minutes: 60, Scope: scopeOf("LIG-04")})
			return err
		},
		"a site of nobody's": func() error {
			_, err := limited.AddSite(t.Context(), contract.SiteInput{Code: "FER-11", Name: "Ferry"})
			return err
		},
		"a tag taken away": func() error {
			_, err := limited.EditSite(t.Context(), "KET-07", client.Fields{"tags": []string{"south"}})
			return err
		},
	} {
		require.Error(t, try(), name)
	}
	story, err := s.Client.Fault(t.Context(), faultAt(faults, "LIG-04"))
	require.NoError(t, err)
	require.True(t, story.Acknowledged.IsZero() && story.Judged == nil, "nothing is half-done")
	for _, k := range keys {
		if strings.HasPrefix(k.Holder, "LIG-04") || k.Holder == "owner" {
			require.True(t, client.IsStatus(limited.RevokeKey(t.Context(), k.ID), http.StatusNotFound))
		}
	}
}

func readAs(t *testing.T, url, key string) (string, int) {
	t.Helper()
	req, err := http.NewRequestWithContext(t.Context(), http.MethodGet, url, nil)
	require.NoError(t, err)
	req.Header.Set("Authorization", "Bearer "+key)
	r, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer r.Body.Close()
	body, err := io.ReadAll(r.Body)
	require.NoError(t, err)
	return string(body), r.StatusCode
}

func scopeOf(code string) fault.Scope { return fault.Scope{Site: code} }

func ids(keys []contract.Key) (out []string) {
	for _, k := range keys {
		out = append(out, fmt.Sprint(k.ID))
	}
	return out
}

func idsOfFaults(list []contract.Fault) (out []string) {
	for _, f := range list {
		out = append(out, fmt.Sprint(f.ID))
	}
	return out
}

func faultAt(list []contract.Fault, code string) int64 {
	return list[slices.IndexFunc(list, func(f contract.Fault) bool { return f.Site == code })].ID
}
