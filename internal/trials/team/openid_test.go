package team_test

import (
	"encoding/json"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/team"
	"inkpost.example/inkpost/internal/lab/idp"
	"inkpost.example/inkpost/internal/testbed"
	"inkpost.example/inkpost/internal/wire/openid"
)

// elsewhere runs a service at whose provider people may sign in.
func elsewhere(t *testing.T) (*testbed.Service, *idp.Provider) {
	t.Helper()
	var p *idp.Provider
	at := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { p.ServeHTTP(w, r) }))
	t.Cleanup(at.Close)
	p, err := idp.New(at.URL, "inkpost", "gannet")
	require.NoError(t, err)
	s := testbed.Start(t, func(o *testbed.Options) {
		o.OpenID = openid.Config{Issuer: at.URL, ClientID: "inkpost", ClientSecret: "gannet", Title: "Harbour Office"}
	})
	return s, p
}

// visited goes through the provider as a browser does, and returns where it ends and who is signed in there then.
func visited(t *testing.T, s *testbed.Service) (end *url.URL, who contract.Session, status int) {
	t.Helper()
	jar, err := cookiejar.New(nil)
	require.NoError(t, err)
	browser := &http.Client{Jar: jar, CheckRedirect: func(r *http.Request, _ []*http.Request) error {
		if end = r.URL; r.URL.Path == "/" {
			return http.ErrUseLastResponse
		}
		return nil
	}}
	r, err := browser.Get(s.URL + "/api/v1/session/provider")
	require.NoError(t, err)
	r.Body.Close()
	who, status = signedInAs(t, browser, s)
	return end, who, status
}

func signedInAs(t *testing.T, browser *http.Client, s *testbed.Service) (who contract.Session, status int) {
	t.Helper()
	r, err := browser.Get(s.URL + "/api/v1/session")
	require.NoError(t, err)
	defer r.Body.Close()
	if r.StatusCode == http.StatusOK {
		require.NoError(t, jsonOf(r, &who))
	}
	return who, r.StatusCode
}

func TestPeopleSignInAtTheirProvider(t *testing.T) {
	t.Parallel()
	s, p := elsewhere(t)
	p.Seat(map[string]any{"sub": "7", "preferred_username": "keeper", "inkpost_role": []string{"viewer", "technician"},
		"inkpost_tags": "north"})
	_, who, status := visited(t, s)
	require.Equal(t, http.StatusOK, status)
	require.Equal(t, "keeper", who.Name)
	require.Equal(t, team.Technician, who.Role, "of several, the one that may do most")
	require.Equal(t, []string{"north"}, who.Tags)

	p.Seat(map[string]any{"sub": "7", "preferred_username": "keeper", "inkpost_role": "viewer"})
	_, who, _ = visited(t, s)
	require.Equal(t, team.Viewer, who.Role, "the role is what the provider says now")
	require.Empty(t, who.Tags)
	people, err := s.Client.People(t.Context())
	require.NoError(t, err)
	require.Len(t, people, 2)

	for name, claims := range map[string]map[string]any{
		"gives you no role here": {"sub": "8", "preferred_username": "gull"},
		"is taken":               {"sub": "9", "preferred_username": "owner", "inkpost_role": "owner"},
		"no preferred_username":  {"sub": "10", "inkpost_role": "viewer"},
		"did not let you in":     nil,
	} {
		p.Seat(claims)
		end, _, status := visited(t, s)
		require.Equal(t, http.StatusUnauthorized, status, name)
		require.Contains(t, end.Query().Get("refused"), name)
	}
	anonymous := contract.SignIn{Name: "keeper", Password: ""}
	r, _ := posted(t, s.URL+"/api/v1/session", anonymous)
	require.Equal(t, http.StatusUnauthorized, r.StatusCode, "they have no password here")
	list := acts(t, s.Client, "kind", "session.provider.return")
	require.Len(t, list, 6)
	require.Equal(t, "keeper", list[5].Person)
	require.GreaterOrEqual(t, list[0].Status, 400)
}

func TestAProvidersAnswerIsForTheBrowserThatAsked(t *testing.T) {
	t.Parallel()
	s, p := elsewhere(t)
	p.Seat(map[string]any{"sub": "7", "preferred_username": "keeper", "inkpost_role": "viewer"})
	jar, err := cookiejar.New(nil)
	require.NoError(t, err)
	var back string
	attacker := &http.Client{Jar: jar, CheckRedirect: func(r *http.Request, _ []*http.Request) error {
		if strings.HasSuffix(r.URL.Path, "/return") {
			back = r.URL.String()
			return http.ErrUseLastResponse
		}
		return nil
	}}
	r, err := attacker.Get(s.URL + "/api/v1/session/provider")
	require.NoError(t, err)
	r.Body.Close()
	attacker.CheckRedirect = func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }
	other, err := cookiejar.New(nil)
	require.NoError(t, err)
	victim := &http.Client{Jar: other, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	open := func(c *http.Client, url string) string {
		r, err := c.Get(url)
		require.NoError(t, err)
		r.Body.Close()
		return r.Header.Get("Location")
	}
	require.Contains(t, open(victim, back), "does+not+belong+to+this+browser", "a link to somebody else's answer")
	wrong, _ := url.Parse(back)
	q := wrong.Query()
	q.Set("state", "other")
	wrong.RawQuery = q.Encode()
	require.Contains(t, open(attacker, wrong.String()), "refused=")
	require.Contains(t, open(attacker, back), "refused=", "it was used up")

	for name, tamper := range map[string]func(map[string]any){
		"audience": func(c map[string]any) { c["aud"] = "somebody else" },
		"issuer":   func(c map[string]any) { c["iss"] = "https://other.example" },
		"nonce":    func(c map[string]any) { c["nonce"] = "replayed" },
		"time":     func(c map[string]any) { c["exp"] = 1 },
	} {
		p.Tamper = tamper
		_, _, status := visited(t, s)
		require.Equal(t, http.StatusUnauthorized, status, name)
	}
}

func jsonOf(r *http.Response, v any) error { return json.NewDecoder(r.Body).Decode(v) }
