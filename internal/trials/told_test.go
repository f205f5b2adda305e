package trials_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/notice"
	"inkpost.example/inkpost/internal/testbed"
	"inkpost.example/inkpost/internal/wire/hook"
)

// inbox counts the events that a receiver got, by their ID.
type inbox struct {
	mu    sync.Mutex
	byID  map[string]int
	moves map[float64]bool
}

func (i *inbox) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	var e hook.Event
	if json.NewDecoder(r.Body).Decode(&e) != nil {
		w.WriteHeader(http.StatusBadRequest)
		return
	}
	i.mu.Lock()
	defer i.mu.Unlock()
	i.byID[e.ID]++
	if data, ok := e.Data.(map[string]any); ok && data["move"] != nil {
		i.moves[data["move"].(float64)] = true
	}
}

func (i *inbox) count() (ids, moves int) {
	i.mu.Lock()
	defer i.mu.Unlock()
	return len(i.byID), len(i.moves)
}

// A server is killed ten times while it delivers a thousand notices, and while it writes down what is to be told of a move.
func TestNoNoticeIsLostAndNoneIsTwoForItsReceiver(t *testing.T) {
	t.Parallel()
	const rounds, each = 10, 100
	database := testbed.Database(t)
	got := &inbox{byID: map[string]int{}, moves: map[float64]bool{}}
	server := httptest.NewServer(got)
	defer server.Close()
	launch := func() *testbed.Process { return testbed.Launch(t, database, "--hook-allow", "127.0.0.0/8") }
	p := launch()
	owner, key := p.Owner(t)
	s := &testbed.Service{Client: owner, Key: key}
	s.Record(t, "KET-07")
	s.Name(t, "KET-07")
	router := s.Router(t, "KET-07")
	_, err := owner.AddHook(t.Context(), contract.HookInput{Name: "desk", URL: server.URL})
	require.NoError(t, err)
	_, err = owner.AddNoticeRule(t.Context(), notice.Rule{Hook: "desk", Topic: notice.Moves})
	require.NoError(t, err)
	announced := 0
	for round := range rounds {
		if round < 5 { // what comes beyond five messages is put together
			require.NoError(t, router.At(p.URL).Announce(t.Context(), fmt.Sprintf("198.51.100.%d", 7+round)))
			announced++
		}
		p.Kill()
		query(t, database, `WITH n AS (INSERT INTO notice (recipient, content, decided_at)
			SELECT 'hook desk', jsonb_build_object('what', 'test', 'at', now(), 'subject', 'notice ' || n, 'summary', ''), now()
			FROM generate_series(1, $1) n RETURNING id)
			INSERT INTO delivery (notice_id, way, since_at) SELECT id, 'hook', now() FROM n`, each)
		before, _ := got.count()
		p = launch()
		soon(t, 20*time.Second, "notices are delivered", func() bool { n, _ := got.count(); return n >= before+each/4 })
	}
	soon(t, 60*time.Second, "every notice is delivered", func() bool {
		n, moves := got.count()
		return n >= rounds*each+announced && moves == announced
	})
	soon(t, 10*time.Second, "that is recorded", func() bool {
		return one[int](t, database, `SELECT count(*)::int FROM delivery WHERE state <> 'sent'`) == 0
	})
	n, _ := got.count()
	require.Equal(t, rounds*each+announced, n, "no ID that is not one notice")
	again := 0
	for _, times := range got.byID {
		again += times - 1
	}
	t.Logf("%d notices, %d of them sent again after a kill, each with the ID that it had", n, again)
	require.Equal(t, announced, one[int](t, database, `SELECT count(*)::int FROM notice_item`), "one thing is told once")
	consistent(t, database)
}
