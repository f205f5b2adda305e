package daemon

import (
	"encoding/json"
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"

	"inkpost.example/inkpost/internal/engine"
	"inkpost.example/inkpost/internal/engine/counters"
)

// rows collects a row of a table for each metric that is registered.
type rows struct{ list []string }

var desc = regexp.MustCompile(`fqName: "([^"]*)", help: "((?:[^"\\]|\\.)*)".*variableLabels: \{([^}]*)\}`)

func (r *rows) Register(c prometheus.Collector) error {
	ch := make(chan *prometheus.Desc, 100)
	c.Describe(ch)
	close(ch)
	for d := range ch {
		m := desc.FindStringSubmatch(d.String())
		labels := strings.ReplaceAll(m[3], ",", ", ")
		r.list = append(r.list, "| `"+m[1]+"` | "+labels+" | "+strings.ReplaceAll(m[2], `\"`, `"`)+" |")
	}
	return nil
}

func (r *rows) MustRegister(...prometheus.Collector) {}
func (r *rows) Unregister(prometheus.Collector) bool { return false }

func ours(t *testing.T) (table string, names []string) {
	t.Helper()
	var r rows
	require.NoError(t, registerOwn(&r, nil, func() *engine.Engine { return nil }, counters.New()))
	slices.Sort(r.list)
	for _, row := range r.list {
		names = append(names, strings.Split(row, "`")[1])
	}
	return strings.Join(r.list, "\n"), names
}

// Whoever reads a metric finds what it is: the table is that of the program.
func TestEveryMetricStandsInTheDocuments(t *testing.T) {
	t.Parallel()
	table, names := ours(t)
	require.Greater(t, len(names), 25)
	doc, err := os.ReadFile("../../docs/metrics.md")
	require.NoError(t, err)
	require.Contains(t, string(doc), table+"\n")
	require.Equal(t, len(names), strings.Count(string(doc), "| `inkpost_"), "no others stand there")
}

var named = regexp.MustCompile(`inkpost_[a-z_]+`)

// The dashboard and the alert rules ask for metrics that there are.
func TestTheDashboardAndTheAlertsAskForWhatThereIs(t *testing.T) {
	t.Parallel()
	_, names := ours(t)
	known := func(text string) (asked int) {
		for _, name := range named.FindAllString(text, -1) {
			asked++
			require.True(t, slices.ContainsFunc(names, func(n string) bool {
				return name == n || slices.Contains([]string{n + "_bucket", n + "_sum", n + "_count"}, name)
			}), name)
		}
		return asked
	}
	text, err := os.ReadFile("../../packaging/metrics/dashboard.json")
	require.NoError(t, err)
	var board struct {
		Title  string
		Panels []struct {
			Title   string
			GridPos struct{ X, Y, W, H int }
			Targets []struct{ Expr string }
		}
	}
	require.NoError(t, json.Unmarshal(text, &board))
	require.Greater(t, len(board.Panels), 10)
	for _, p := range board.Panels {
		require.NotEmpty(t, p.Title)
		require.LessOrEqual(t, p.GridPos.X+p.GridPos.W, 24, p.Title)
		for _, target := range p.Targets {
			require.Positive(t, known(target.Expr)+strings.Count(target.Expr, "process_"), "%s asks for nothing", p.Title)
		}
	}
	text, err = os.ReadFile("../../packaging/metrics/alerts.yaml")
	require.NoError(t, err)
	var rules struct {
		Groups []struct {
			Name  string
			Rules []struct {
				Alert, Expr, For    string
				Labels, Annotations map[string]string
			}
		}
	}
	require.NoError(t, yaml.Unmarshal(text, &rules))
	require.NotEmpty(t, rules.Groups)
	for _, g := range rules.Groups {
		for _, r := range g.Rules {
			require.Positive(t, known(r.Expr)+strings.Count(r.Expr, "up{"), r.Alert)
			require.NotEmpty(t, r.Annotations["summary"], r.Alert)
			require.NotEmpty(t, r.Annotations["action"], "%s says what to do", r.Alert)
			require.Contains(t, []string{"wake", "work"}, r.Labels["severity"], r.Alert)
		}
	}
}
