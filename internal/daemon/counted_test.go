package daemon_test

import (
	"io"
	"net/http"
	"net/http/httptest"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	testify "github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	collector "go.opentelemetry.io/proto/otlp/collector/trace/v1"
	traces "go.opentelemetry.io/proto/otlp/trace/v1"
	"google.golang.org/protobuf/proto"

	"inkpost.example/inkpost/internal/testbed"
)

// counted reads one metric of a service, with its labels as they are written; 0 where it is not there.
func counted(t testify.TestingT, s *testbed.Service, metric string) float64 {
	r, err := http.Get(s.URL + "/metrics")
	if !testify.NoError(t, err) {
		return 0
	}
	defer r.Body.Close()
	text, err := io.ReadAll(r.Body)
	testify.NoError(t, err)
	m := regexp.MustCompile(`(?m)^` + regexp.QuoteMeta(metric) + ` (\S+)$`).FindStringSubmatch(string(text))
	if m == nil {
		return 0
	}
	n, err := strconv.ParseFloat(m[1], 64)
	testify.NoError(t, err)
	return n
}

func TestWhatIsDoneIsCounted(t *testing.T) {
	t.Parallel()
	s := testbed.Start(t, nil)
	record(t, s, "KET-07")
	s.Name(t, "KET-07")
	require.InDelta(t, 1, counted(t, s, `inkpost_writer`), 0)
	require.InDelta(t, 1, counted(t, s, `inkpost_sites{need="unknown"}`), 0)
	require.Zero(t, counted(t, s, `inkpost_moves_total`))
	require.Positive(t, counted(t, s, `inkpost_database_connections{pool="all",state="unused"}`))
	opened := counted(t, s, `inkpost_sessions_opened_total`)

	router := s.Router(t, "KET-07")
	require.NoError(t, router.Announce(t.Context(), "203.0.113.7"))
	require.NoError(t, router.Announce(t.Context(), "203.0.113.7"))
	require.Error(t, router.Announce(t.Context(), "10.0.0.7"), "no address of the world's")
	require.EventuallyWithT(t, func(c *assert) {
		testify.InDelta(c, 1, counted(c, s, `inkpost_moves_total`), 0)
		testify.InDelta(c, 1, counted(c, s, `inkpost_announcements_total{outcome="changed",way="router"}`), 0)
		testify.InDelta(c, 1, counted(c, s, `inkpost_announcements_total{outcome="unchanged",way="router"}`), 0)
		testify.InDelta(c, 1, counted(c, s, `inkpost_announcements_total{outcome="refused",way="router"}`), 0)
		for _, stage := range []string{"recorded", "published", "answered"} {
			testify.InDelta(c, 1, counted(c, s, `inkpost_move_stage_seconds_count{stage="`+stage+`"}`), 0, stage)
			took := counted(c, s, `inkpost_move_stage_seconds_sum{stage="`+stage+`"}`)
			testify.True(c, took >= 0 && took < 20, "%s after %v s", stage, took)
		}
	}, 10*time.Second, 50*time.Millisecond)

	missing, err := http.NewRequestWithContext(t.Context(), "GET", s.URL+"/api/v1/sites/NOW-99", nil)
	require.NoError(t, err)
	missing.Header.Set("Authorization", "Bearer "+s.Key)
	r, err := http.DefaultClient.Do(missing)
	require.NoError(t, err)
	require.NoError(t, r.Body.Close())
	require.InDelta(t, 1, counted(t, s, `inkpost_request_seconds_count{method="GET",route="/api/v1/sites/:code",status="4xx"}`), 0)
	require.NotZero(t, counted(t, s, `inkpost_request_seconds_count{method="POST",route="/api/v1/sites",status="2xx"}`))

	s.Join(t, "warden", "viewer")
	require.Greater(t, counted(t, s, `inkpost_sessions_opened_total`), opened)
}

// collecting stands in for a collector of traces.
type collecting struct {
	mu    sync.Mutex
	spans []*traces.Span
}

func (c *collecting) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	body, err := io.ReadAll(r.Body)
	var in collector.ExportTraceServiceRequest
	if err != nil || r.URL.Path != "/v1/traces" || proto.Unmarshal(body, &in) != nil {
		w.WriteHeader(http.StatusBadRequest)
		return
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, of := range in.GetResourceSpans() {
		for _, scope := range of.GetScopeSpans() {
			c.spans = append(c.spans, scope.GetSpans()...)
		}
	}
}

func (c *collecting) of(traceID string) (out []*traces.Span) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, one := range c.spans {
		if strings.EqualFold(hexOf(one.GetTraceId()), traceID) {
			out = append(out, one)
		}
	}
	return out
}

func hexOf(b []byte) string {
	var s strings.Builder
	for _, one := range b {
		s.WriteString(strconv.FormatUint(uint64(one)|0x100, 16)[1:])
	}
	return s.String()
}

// A request is followed into the database, as part of the trace that it came with; what was asked for stands there, and no value.
func TestRequestsAreTracedOnRequest(t *testing.T) {
	t.Parallel()
	c := &collecting{}
	at := httptest.NewServer(c)
	t.Cleanup(at.Close)
	s := testbed.Start(t, func(o *testbed.Options) { o.Traces = at.URL + "/v1/traces" })
	const id = "4bf92f3577b34da6a3ce929d0e0e4736"
	r, err := http.NewRequestWithContext(t.Context(), "POST", s.URL+"/api/v1/sites", strings.NewReader(
		`{"code":"KET-07","name":"Lighthouse Museum","note":"the key hangs behind the gull"}`))
	require.NoError(t, err)
	r.Header.Set("Authorization", "Bearer "+s.Key)
	r.Header.Set("Content-Type", "application/json")
	r.Header.Set("Traceparent", "00-"+id+"-00f067aa0ba902b7-01")
	answer, err := http.DefaultClient.Do(r)
	require.NoError(t, err)
	require.NoError(t, answer.Body.Close())
	require.Equal(t, http.StatusCreated, answer.StatusCode)
	require.EventuallyWithT(t, func(now *assert) {
		of := c.of(id)
		var request *traces.Span
		statements := 0
		for _, one := range of {
			testify.NotContains(now, one.String(), "gull", "no value is in a trace")
			testify.NotContains(now, one.String(), s.Key)
			if one.GetName() == "POST /api/v1/sites" {
				request = one
			}
			if one.GetName() == "INSERT" && strings.Contains(one.String(), "INSERT INTO site") {
				statements++
			}
		}
		if testify.NotNil(now, request) {
			testify.Equal(now, "00f067aa0ba902b7", hexOf(request.GetParentSpanId()))
			testify.Contains(now, request.String(), "/api/v1/sites")
		}
		testify.Positive(now, statements)
	}, 20*time.Second, 100*time.Millisecond)
}

// A collector that is away, or no collector at all, is nobody's trouble.
func TestACollectorThatIsAwayDelaysNobody(t *testing.T) {
	t.Parallel()
	s := testbed.Start(t, func(o *testbed.Options) { o.Traces = "http://127.0.0.1:9/v1/traces" })
	began := time.Now()
	for range 50 {
		_, err := s.Client.Overview(t.Context())
		require.NoError(t, err)
	}
	require.Less(t, time.Since(began), 20*time.Second)
}
