package daemon_test

import (
	"encoding/json"
	"io"
	"net/http"
	"slices"
	"strings"
	"testing"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/labstack/echo/v5"
	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/api"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/lab"
	"inkpost.example/inkpost/internal/testbed"
)

func get(t *testing.T, s *testbed.Service, path string) (int, []byte) {
	t.Helper()
	r, err := http.Get(s.URL + path)
	require.NoError(t, err)
	defer r.Body.Close()
	doc, err := io.ReadAll(r.Body)
	require.NoError(t, err)
	return r.StatusCode, doc
}

func TestTheDescriptionFitsTheRoutes(t *testing.T) {
	world, err := lab.New(nil, nil)
	require.NoError(t, err)
	s := testbed.Start(t, func(o *options) { o.Lab = world })
	status, doc := get(t, s, "/api/v1/openapi.json")
	require.Equal(t, 200, status)
	described, err := openapi3.NewLoader().LoadFromData(doc)
	require.NoError(t, err)
	require.True(t, strings.HasPrefix(described.OpenAPI, "3.1"))
	require.NoError(t, described.Validate(t.Context()))

	handler, err := api.New(api.Options{Engine: s.Daemon.Engine, Lab: world})
	require.NoError(t, err)
	var served []string
	for _, r := range handler.Router().Routes() {
		if r.Method == echo.RouteNotFound {
			continue
		}
		served = append(served, r.Method+" "+braces(r.Path))
	}
	var told []string
	for path, item := range described.Paths.Map() {
		for method, op := range item.Operations() {
			told = append(told, method+" "+path)
			require.NotEmpty(t, op.Summary, path)
			require.NotNil(t, op.Responses.Default(), path)
		}
	}
	slices.Sort(served)
	slices.Sort(told)
	require.Equal(t, served, told, "every route is described and every description is served")
}

func braces(path string) string {
	words := strings.Split(path, "/")
	for i, w := range words {
		if strings.HasPrefix(w, ":") {
			words[i] = "{" + w[1:] + "}"
		}
	}
	return strings.Join(words, "/")
}

// Replies of the running service fit the schemas that describe them.
func TestRepliesFitTheirSchemas(t *testing.T) {
	s := testbed.Start(t, nil)
	record(t, s, "KET-07")
	_, err := s.Client.AddHostname(t.Context(), contract.HostnameInput{Name: "ket-07." + zone, Site: "KET-07"})
	require.NoError(t, err)
	_, err = s.Client.AddDevice(t.Context(), "KET-07", contract.DeviceInput{Name: "recorder", Address: "192.168.7.20"})
	require.NoError(t, err)
	_, err = s.Client.AddService(t.Context(), "KET-07", contract.ServiceInput{Name: "page", Device: "recorder", External: "8443"})
	require.NoError(t, err)
	announce(t, enrol(t, s, "KET-07"), "198.51.100.7")
	key, err := s.Engine().AddKey(t.Context(), 1, "owner", contract.KeyInput{Label: "schemas"})
	require.NoError(t, err)
	_, doc := get(t, s, "/api/v1/openapi.json")
	described, err := openapi3.NewLoader().LoadFromData(doc)
	require.NoError(t, err)
	for path, template := range map[string]string{
		"/overview": "", "/sites": "", "/zones": "", "/hostnames": "", "/moves": "", "/faults": "", "/keys": "",
		"/sites/KET-07": "/sites/{code}", "/sites/KET-07/links": "/sites/{code}/links", "/sites/KET-07/services": "/sites/{code}/services",
		"/sites/KET-07/services/page/history": "/sites/{code}/services/{name}/history",
	} {
		if template == "" {
			template = path
		}
		req, err := http.NewRequestWithContext(t.Context(), "GET", s.URL+"/api/v1"+path, nil)
		require.NoError(t, err)
		req.Header.Set("Authorization", "Bearer "+key.Secret)
		r, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		require.Equal(t, 200, r.StatusCode, path)
		var value any
		require.NoError(t, json.NewDecoder(r.Body).Decode(&value))
		_ = r.Body.Close()
		schema := described.Paths.Find("/api/v1" + template).Get.Responses.Status(200).Value.Content["application/json"].Schema.Value
		require.NoError(t, schema.VisitJSON(value, openapi3.EnableJSONSchema2020()), path)
	}
}

func TestHealth(t *testing.T) {
	database, away := testbed.OwnDatabase(t)
	s := testbed.Start(t, func(o *options) { o.Database = database })
	status, _ := get(t, s, "/readyz")
	require.Equal(t, 200, status)
	away()
	status, doc := get(t, s, "/readyz")
	require.Equal(t, 503, status)
	require.Contains(t, string(doc), "names are answered")
	status, _ = get(t, s, "/healthz")
	require.Equal(t, 200, status)
}

func TestMetricsAreOpen(t *testing.T) {
	s := testbed.Start(t, nil)
	record(t, s, "KET-07")
	answers(t, s.DNS, zone)
	req, err := http.NewRequestWithContext(t.Context(), "GET", s.URL+"/metrics", nil)
	require.NoError(t, err)
	req.Header.Set("Accept", "application/openmetrics-text; version=1.0.0")
	r, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer r.Body.Close()
	text, err := io.ReadAll(r.Body)
	require.NoError(t, err)
	require.Contains(t, r.Header.Get("Content-Type"), "application/openmetrics-text")
	require.True(t, strings.HasSuffix(string(text), "# EOF\n"))
	require.Regexp(t, `(?m)^inkpost_dns_answers_total [1-9]`, string(text))
	require.Contains(t, string(text), "inkpost_dns_transfers_refused_total 0")
}

func TestMetricsMayAskForAKey(t *testing.T) {
	t.Parallel()
	s := testbed.Start(t, func(o *testbed.Options) { o.MetricsKey = "gulls" })
	for given, want := range map[string]int{"": 401, "Bearer terns": 401, "Bearer gulls": 200} {
		req, err := http.NewRequestWithContext(t.Context(), "GET", s.URL+"/metrics", nil)
		require.NoError(t, err)
		req.Header.Set("Authorization", given)
		r, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		require.NoError(t, r.Body.Close())
		require.Equal(t, want, r.StatusCode, given)
		require.Equal(t, want == 401, r.Header.Get("WWW-Authenticate") != "", given)
	}
}
