package trials_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"math"
	"net"
	"net/http"
	"net/netip"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/miekg/dns"
	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/testbed"
)

// post sends a document, and gives the status and the reply.
func post(t testing.TB, method, url, key string, doc any, header ...string) (*http.Response, string) {
	t.Helper()
	text, err := json.Marshal(doc)
	require.NoError(t, err)
	req, err := http.NewRequestWithContext(t.Context(), method, url, bytes.NewReader(text))
	require.NoError(t, err)
	req.Header.Set("Content-Type", "application/json")
	if key != "" {
		req.Header.Set("Authorization", "Bearer "+key)
	}
	for i := 0; i+1 < len(header); i += 2 {
		req.Header.Set(header[i], header[i+1])
	}
	r, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer r.Body.Close()
	reply, err := io.ReadAll(r.Body)
	require.NoError(t, err)
	return r, string(reply)
}

func TestBodiesThatComeSlowlyAreCutAndKeepNobodyOut(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	s.Record(t, "KET-07")
	at := strings.TrimPrefix(s.URL, "http://")
	var slow []net.Conn
	ended := make(chan time.Duration, 400)
	began := time.Now()
	for i := range 300 { // from many networks, as many as there are
		d := net.Dialer{LocalAddr: &net.TCPAddr{IP: net.IPv4(127, 0, byte(1+i%30), 1)}}
		c, err := d.Dial("tcp", at)
		require.NoError(t, err)
		t.Cleanup(func() { _ = c.Close() })
		_, _ = fmt.Fprintf(c, "POST /api/v1/session HTTP/1.1\r\nHost: x\r\nContent-Type: application/json\r\nContent-Length: 1000\r\n\r\n{")
		slow = append(slow, c)
		go func() {
			_, _ = io.Copy(io.Discard, c)
			ended <- time.Since(began)
		}()
	}
	go func() { // a byte now and then, for ever
		for range time.Tick(time.Second) {
			if t.Context().Err() != nil {
				return
			}
			for _, c := range slow {
				_, _ = c.Write([]byte(" "))
			}
		}
	}()
	// Meanwhile others are served, over HTTP and DNS over TCP.
	for range 20 {
		_, err := s.Client.Sites(t.Context())
		require.NoError(t, err)
		c := dns.Client{Net: "tcp", Timeout: time.Second}
		_, _, err = c.Exchange(new(dns.Msg).SetQuestion(zone+".", dns.TypeSOA), s.DNS)
		require.NoError(t, err)
	}
	for range slow {
		select {
		case after := <-ended:
			require.Less(t, after, 45*time.Second)
		case <-time.After(60 * time.Second):
			require.Fail(t, "a body that does not come is waited for")
		}
	}
}

func TestOneNetworkCannotTakeAllConnections(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	s.Record(t, "KET-07")
	for what, at := range map[string]string{"HTTP": strings.TrimPrefix(s.URL, "http://"), "DNS over TCP": s.DNS, "redirects": s.SendOn} {
		var held []net.Conn
		d := net.Dialer{LocalAddr: &net.TCPAddr{IP: net.IPv4(127, 0, 9, 1)}, Timeout: time.Second}
		for range 700 {
			c, err := d.Dial("tcp", at)
			if err != nil {
				break
			}
			held = append(held, c)
		}
		cut := 0
		for _, c := range held { // one that was let in waits for our words
			_ = c.SetReadDeadline(time.Now().Add(time.Millisecond))
			if _, err := c.Read(make([]byte, 1)); err == io.EOF || err != nil && !strings.Contains(err.Error(), "timeout") {
				cut++
			}
		}
		require.Positive(t, cut, what)
		_, err := s.Client.Sites(t.Context())
		require.NoError(t, err, what)
		q := dns.Client{Net: "tcp", Timeout: time.Second}
		_, _, err = q.Exchange(new(dns.Msg).SetQuestion(zone+".", dns.TypeSOA), s.DNS)
		require.NoError(t, err, what)
		for _, c := range held {
			_ = c.Close()
		}
	}
}

func TestFailedSignInsBackOffAndAreCounted(t *testing.T) {
	t.Parallel()
	log := &said{}
	s := start(t, func(o *options) {
		o.Proxies, o.Log = []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8")}, log.log()
	})
	try := func(name, password, from string) int {
		r, _ := post(t, "POST", s.URL+"/api/v1/session", "", contract.SignIn{Name: name, Password: password}, "X-Forwarded-For", from)
		return r.StatusCode
	}
	codes := map[int]int{}
	for i := range 40 { // many addresses of one customer's network, many names
		codes[try(fmt.Sprintf("nobody%d", i), "x", fmt.Sprintf("2001:db8:0:66::%x", i+1))]++
	}
	require.LessOrEqual(t, codes[401], 8, "%v", codes)
	require.GreaterOrEqual(t, codes[429], 30, "%v", codes)
	for i := range 12 { // one name from many networks
		codes[try("owner", "x", fmt.Sprintf("2001:db8:%x::1", i+1))]++
	}
	require.Equal(t, 429, try("owner", "x", "2001:db8:99::1"))
	require.Contains(t, log.String(), "sign-in failed", "each is in the log")
	_, metrics := post(t, "GET", s.URL+"/metrics", s.Key, nil)
	require.Regexp(t, `inkpost_sign_ins_failed_total [1-9]`, metrics)
}

func TestTheCookieIsSecureBehindAProxyThatSpeaksTLS(t *testing.T) {
	t.Parallel()
	s := start(t, func(o *options) { o.Proxies = []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8")} })
	in := contract.SignIn{Name: "owner", Password: s.Password}
	r, _ := post(t, "POST", s.URL+"/api/v1/session", "", in, "X-Forwarded-Proto", "https")
	require.Contains(t, r.Header.Get("Set-Cookie"), "Secure")
	require.Equal(t, "no-store", r.Header.Get("Cache-Control"))
	r, _ = post(t, "POST", s.URL+"/api/v1/session", "", in)
	require.NotContains(t, r.Header.Get("Set-Cookie"), "Secure")
	open := start(t, nil) // nobody is trusted to say that
	r, _ = post(t, "POST", open.URL+"/api/v1/session", "", contract.SignIn{Name: "owner", Password: open.Password},
		"X-Forwarded-Proto", "https")
	require.NotContains(t, r.Header.Get("Set-Cookie"), "Secure")
}

func TestAFullDatabaseIsSaidAndAnsweredWith503(t *testing.T) {
	t.Parallel()
	database := testbed.Database(t)
	s := start(t, func(o *options) { o.Database = database })
	s.Record(t, "KET-07")
	name, router := s.Name(t, "KET-07"), s.Router(t, "KET-07")
	require.NoError(t, router.Announce(t.Context(), "198.51.100.7"))
	for _, code := range []string{"53100", "53300", "57P03"} {
		query(t, database, `CREATE OR REPLACE FUNCTION no() RETURNS trigger LANGUAGE plpgsql
			AS $$ BEGIN RAISE EXCEPTION 'no' USING ERRCODE = '`+code+`'; END $$`)
		query(t, database, `CREATE TRIGGER no BEFORE INSERT ON accepted FOR EACH ROW EXECUTE FUNCTION no()`)
		query(t, database, `CREATE TRIGGER no BEFORE UPDATE ON site FOR EACH ROW EXECUTE FUNCTION no()`)
		query(t, database, `CREATE TRIGGER no BEFORE INSERT ON edit FOR EACH ROW EXECUTE FUNCTION no()`)
		require.ErrorContains(t, router.Announce(t.Context(), "198.51.100.8"), "503", code)
		_, err := s.Client.EditSite(t.Context(), "KET-07", client.Fields{"note": code})
		require.Equal(t, 503, status(err), "%s: %v", code, err)
		require.Equal(t, "198.51.100.7", testbed.Resolve(s.DNS, name))
		for _, table := range []string{"accepted", "site", "edit"} {
			query(t, database, `DROP TRIGGER no ON `+table)
		}
		require.NoError(t, router.Announce(t.Context(), "198.51.100.7"))
	}
}

func TestNoInputMakesTheServiceFail(t *testing.T) {
	t.Parallel()
	s := furnished(t, nil)
	secret := agentSecret(t, s)
	huge := int64(math.MaxInt64)
	inv, err := s.Client.Invite(t.Context(), "KET-07", "main")
	require.NoError(t, err)
	say := func(edit func(map[string]any)) map[string]any {
		text, err := json.Marshal(testbed.Says("198.51.100.9"))
		require.NoError(t, err)
		doc := map[string]any{}
		require.NoError(t, json.Unmarshal(text, &doc))
		edit(doc)
		return doc
	}
	for what, x := range map[string]struct {
		method, path, key string
		doc               any
	}{
		"NUL in a name that signs in": {"POST", "/session", "", contract.SignIn{Name: "ow\x00ner", Password: "x"}},
		"NUL in an agent's label":     {"POST", "/agents", "", contract.Enrolment{Code: inv.Code, Label: "a\x00b"}},
		"NUL in a key's label":        {"POST", "/keys", s.Key, contract.KeyInput{Label: "a\x00b"}},
		"NUL in a zone's transport":   {"PATCH", "/zones/" + zone, s.Key, map[string]any{"transport": "a\x00b"}},
		"NUL in a note":               {"PATCH", "/sites/KET-07", s.Key, map[string]any{"note": "a\x00b"}},
		"reassert past 2^31":          {"PATCH", "/zones/" + zone, s.Key, map[string]any{"reassert_seconds": int64(1) << 31}},
		"interval past 2^31":          {"PATCH", "/sites/KET-07/services/page", s.Key, map[string]any{"interval_seconds": int64(1) << 31}},
		"TTL past 2^31":               {"PATCH", "/hostnames/ket-07." + zone, s.Key, map[string]any{"ttl_seconds": int64(1) << 31}},
		"noticed_ms that overflows":   {"POST", "/agent/announcements", secret, say(func(d map[string]any) { d["noticed_ms"] = huge })},
		"noticed_ms before the age":   {"POST", "/agent/announcements", secret, say(func(d map[string]any) { d["noticed_ms"] = -1 })},
		"age_ms that overflows": {"POST", "/agent/announcements", secret, say(func(d map[string]any) {
			d["reports"] = []any{map[string]any{"source": "stun", "ipv4": "198.51.100.9", "age_ms": huge}}
		})},
		"a line that is too long":       {"PATCH", "/sites/KET-07", s.Key, map[string]any{"name": strings.Repeat("x", 5<<20)}},
		"a number where a text belongs": {"PATCH", "/sites/KET-07", s.Key, map[string]any{"name": 7}},
	} {
		t.Run(what, func(t *testing.T) {
			r, reply := post(t, x.method, s.URL+"/api/v1"+x.path, x.key, x.doc)
			require.GreaterOrEqual(t, r.StatusCode, 400, reply)
			require.Less(t, r.StatusCode, 500, reply)
			require.NotEqual(t, 404, r.StatusCode, "the test has to call what there is")
			require.NotEqual(t, 405, r.StatusCode, "the test has to call what there is")
		})
	}
	moves, err := s.Client.Moves(t.Context(), contract.MoveQuery{Limit: 9})
	require.NoError(t, err)
	require.Empty(t, moves, "nothing of that moved anything")
	for what, path := range map[string]string{"history": "/sites/KET-07/services/page/history?from=9999999-01-01T00:00:00Z",
		"moves": "/moves?before=99999999999999999999", "limit": "/moves?limit=-1", "wait": "/agent/tasks?wait_seconds=1e9"} {
		key := s.Key
		if what == "wait" {
			key = secret
		}
		require.Equal(t, 422, request(t, "GET", s.URL+"/api/v1"+path, key).StatusCode, what)
	}
}

func description(t *testing.T, s *testbed.Service) *openapi3.T {
	t.Helper()
	r, err := http.Get(s.URL + "/api/v1/openapi.json")
	require.NoError(t, err)
	defer r.Body.Close()
	text, err := io.ReadAll(r.Body)
	require.NoError(t, err)
	d, err := openapi3.NewLoader().LoadFromData(text)
	require.NoError(t, err)
	return d
}

func TestTheDescriptionSaysWhoMayCallAndWhatTypesThereAre(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	d := description(t, s)
	numbers, matches := 0, 0
	for path, item := range d.Paths.Map() {
		for method, op := range item.Operations() {
			open := op.Security == nil || len(*op.Security) == 0
			if strings.Contains(path, "/vantage") && !strings.HasSuffix(path, "/enrol") && !strings.Contains(path, "enrolment") {
				require.False(t, open, "%s %s is not open", method, path)
				status := request(t, method, s.URL+strings.NewReplacer("{name}", "harbour", "{id}", "1").Replace(path), "").StatusCode
				require.Contains(t, []int{401, 403}, status, "%s %s", method, path)
			}
			for _, p := range op.Parameters {
				if p.Value.In == "query" && p.Value.Schema.Value.Type.Is("integer") {
					numbers++
				}
				if p.Value.Name == "If-Match" {
					matches++
				}
			}
		}
	}
	require.Greater(t, numbers, 2, "not every parameter is a text")
	require.Greater(t, matches, 12, "what can be edited has revisions")
}

func TestWhatFarAwayMachinesSayCannotSteerATerminal(t *testing.T) {
	t.Parallel()
	s := furnished(t, nil)
	in := testbed.Says("198.51.100.9")
	in.Version, in.Platform, in.Cannot = "1\x1b]0;pwned\x07", "li\x9bnux", []string{"see\r\nthis\x1b[2J", "right\u202eleft"}
	_, err := s.Enrol(t, "KET-07").Announce(t.Context(), in)
	require.NoError(t, err)
	require.NoError(t, s.Enrol(t, "KET-07").ReportLAN(t.Context(),
		contract.LANReport{Problem: "\x1b[31mred",
			Devices: []contract.DeviceReport{{Device: "recorder", Found: "192.168.7.20", MAC: "\x1b[5m"}}}))
	for _, path := range []string{"/sites/KET-07/links/main", "/sites/KET-07/lan", "/sites/KET-07"} {
		_, text := post(t, "GET", s.URL+"/api/v1"+path, s.Key, nil)
		require.NotContains(t, text, `\u001b`, path)
		require.NotContains(t, text, "\u009b", path)
		require.NotContains(t, text, "\u202e", path)
	}
}

func TestAHistoryRowOfAMonthWithoutAPartitionStopsNothing(t *testing.T) {
	t.Parallel()
	database := testbed.Database(t)
	start(t, func(o *options) { o.Database = database }).Stop()
	next := time.Now().UTC().AddDate(0, 0, 1-time.Now().UTC().Day()).AddDate(0, 1, 3)
	table := "span_" + next.Format("2006_01")
	query(t, database, `DROP TABLE `+table)
	query(t, database, `INSERT INTO span VALUES (7, 1, $1, $1, 'opened', 1, 1, 1, 1, 1)`, next)
	require.Equal(t, 1, one[int](t, database, `SELECT count(*) FROM span_other`))
	s := start(t, func(o *options) { o.Database = database })
	require.True(t, one[bool](t, database, `SELECT to_regclass($1) IS NOT NULL`, table))
	require.Equal(t, 1, one[int](t, database, `SELECT count(*) FROM `+table), "the row is where it belongs")
	_, err := s.Client.Sites(t.Context())
	require.NoError(t, err)
}

func TestAClockThatIsSetBackStopsNoProbing(t *testing.T) {
	t.Parallel()
	back := make(chan time.Duration, 1)
	back <- 0
	began := time.Now()
	s := start(t, func(o *options) {
		o.Ticks = func() time.Time { return began.Add(time.Since(began)) } // as the process's own, which no step of the time of day reaches
		o.Clock = func() time.Time { d := <-back; back <- d; return time.Now().Add(-d) }
	})
	l, err := net.Listen("tcp", "127.96.0.31:0")
	require.NoError(t, err)
	defer l.Close()
	var mu sync.Mutex
	knocks := 0
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			mu.Lock()
			knocks++
			mu.Unlock()
			_ = c.Close()
		}
	}()
	count := func() int { mu.Lock(); defer mu.Unlock(); return knocks }
	s.Record(t, "KET-07")
	s.Device(t, "KET-07", "recorder")
	require.NoError(t, s.Router(t, "KET-07").Announce(t.Context(), "127.96.0.31"))
	_, err = s.Client.AddService(t.Context(), "KET-07",
		contract.ServiceInput{Name: "page", Device: "recorder", External: fmt.Sprint(l.Addr().(*net.TCPAddr).Port), Interval: 1})
	require.NoError(t, err)
	soon(t, 5*time.Second, "it is probed", func() bool { return count() >= 3 })
	<-back
	back <- 6 * time.Hour
	was := count()
	soon(t, 6*time.Second, "it is probed on", func() bool { return count() >= was+4 })
}

func TestDeadPrimariesHoldUpNobodyElse(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	s.Record(t, "KET-07")
	dead, err := net.ListenPacket("udp", "127.0.0.1:0") // it never answers
	require.NoError(t, err)
	defer dead.Close()
	for i := range 8 {
		code := fmt.Sprintf("REM-%02d", i)
		s.Record(t, code)
		apex := fmt.Sprintf("r%d.saltmarsh.example", i)
		_, err := s.Client.AddZone(t.Context(), contract.ZoneInput{Apex: apex, Kind: string(names.Remote),
			Primary: dead.LocalAddr().String()})
		require.NoError(t, err)
		_, err = s.Client.AddHostname(t.Context(), contract.HostnameInput{Name: "a." + apex, Site: code})
		require.NoError(t, err)
		require.NoError(t, s.Router(t, code).Announce(t.Context(), fmt.Sprintf("198.51.100.%d", 100+i)))
	}
	name, router := s.Name(t, "KET-07"), s.Router(t, "KET-07")
	for i := range 5 {
		address := fmt.Sprintf("198.51.100.%d", 10+i)
		require.NoError(t, router.Announce(t.Context(), address))
		took := soon(t, 2*time.Second, "a name of our own is verified", func() bool {
			h, err := s.Client.Hostname(t.Context(), name)
			require.NoError(t, err)
			return h.Given == address
		})
		t.Logf("verified after %v", took.Round(time.Millisecond))
	}
}
