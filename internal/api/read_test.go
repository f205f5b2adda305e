package api

import (
	"bytes"
	"errors"
	"net/http/httptest"
	"net/netip"
	"reflect"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/labstack/echo/v5"
	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/access"
	"inkpost.example/inkpost/internal/access/throttle"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/engine"
	"inkpost.example/inkpost/internal/engine/changes"
	"inkpost.example/inkpost/internal/store"
)

// asking makes the context of a request with a document.
func asking(method, path, kind string, doc []byte) *echo.Context {
	r := httptest.NewRequest(method, path, bytes.NewReader(doc))
	r.Header.Set("Content-Type", kind)
	return echo.New().NewContext(r, httptest.NewRecorder())
}

func TestADocumentIsReadWholeOrNotAtAll(t *testing.T) {
	for what, x := range map[string]struct {
		kind, doc string
		status    int
		says      string
	}{
		"no JSON":              {"text/plain", `{}`, 415, "application/json"},
		"cut short":            {"application/json", `{"name": "a`, 400, "cannot be read"},
		"a field too many":     {"application/json", `{"name": "a", "colour": "red"}`, 400, `unknown field "colour"`},
		"two documents":        {"application/json", `{"name": "a"} {"name": "b"}`, 400, "unexpected data after the JSON document"},
		"a number for a text":  {"application/json", `{"name": 7}`, 422, "name: is a number; a string is required"},
		"a NUL":                {"application/json", `{"name": "a\u0000b"}`, 422, "name: contains a control character"},
		"an escape":            {"application/json", `{"note": "\u001b[31m"}`, 422, "note: contains a control character"},
		"text that turns back": {"application/json", `{"note": "a\u202eb"}`, 422, "note: contains a control character"},
		"too long a text": {"application/json", `{"note": "` + strings.Repeat("é", maxText+1) + `"}`, 422,
			"note: has 8193 characters; 8192 are allowed"},
	} {
		t.Run(what, func(t *testing.T) {
			in := contract.SiteInput{Name: "as it was"}
			err := decode(asking("POST", "/", x.kind, []byte(x.doc)), &in)
			require.Error(t, err)
			f := explain(err)
			require.Equal(t, x.status, f.Status, f.Detail)
			require.Contains(t, f.Detail, x.says)
		})
	}
	in := contract.SiteInput{Name: "as it was"}
	require.NoError(t, decode(asking("POST", "/", "application/json; charset=utf-8", []byte(`{"note": "two\nlines\tand more"}`)), &in))
	require.Equal(t, contract.SiteInput{Name: "as it was", Note: "two\nlines\tand more"}, in)
}

func TestAMergeIsDecidedOnWhatIsThereThen(t *testing.T) {
	m, err := merge[contract.SiteInput](asking("PATCH", "/", "application/json", []byte(`{"note": "new"}`)))
	require.NoError(t, err)
	for _, now := range []contract.SiteInput{{Name: "first"}, {Name: "second", Note: "old"}} {
		before := now
		require.NoError(t, m(&now))
		require.Equal(t, contract.SiteInput{Name: before.Name, Note: "new"}, now)
	}
	_, err = merge[contract.SiteInput](asking("PATCH", "/", "application/json", []byte(`{"note": 7}`)))
	require.Error(t, err, "what is wrong is found before anybody waits for it")
}

func TestWhatMachinesSayIsCleanedWhereItComesIn(t *testing.T) {
	doc := []byte(`{"problem": "\u001b]0;x\u0007", "devices": [{"device": "a\u0000", "found": "\u202e1", ` +
		`"ports": [{"service": "page", "state": "open", "detail": "220 \u001b[2J"}]}]}`)
	var in contract.LANReport
	require.NoError(t, decodeReport(asking("POST", "/", "application/json", doc), &in))
	require.Equal(t, "\ufffd]0;x\ufffd", in.Problem)
	require.Equal(t, "a\ufffd", in.Devices[0].Device)
	require.Equal(t, "\ufffd1", in.Devices[0].Found)
	require.Equal(t, "220 \ufffd[2J", in.Devices[0].Ports[0].Detail)
	long := []byte(`{"devices": [{"device": "a", "mac": "` + strings.Repeat("x", maxText+1) + `"}]}`)
	require.ErrorContains(t, decodeReport(asking("POST", "/", "application/json", long), &in), "devices[0].mac")
	require.Equal(t, "grün\tund\nbunt 🎣 \u200d", clean("grün\tund\nbunt 🎣 \u200d"), "text stays text")
	require.Equal(t, "a\ufffdb", clean("a\xffb"))
}

func TestEveryTextOfADocumentIsLookedAt(t *testing.T) {
	type deep struct {
		Name    string   `json:"name"`
		List    []string `json:"list"`
		Pointer *string  `json:"pointer"`
		Nested  struct {
			Word string `json:"word"`
		} `json:"nested"`
		hidden string
	}
	words := "e"
	v := deep{Name: "a", List: []string{"b", "c"}, Pointer: &words, hidden: "never"}
	v.Nested.Word = "d"
	seen := map[string]string{}
	require.NoError(t, texts(reflect.ValueOf(&v).Elem(), "", func(field, s string) (string, error) {
		seen[field] = s
		return strings.ToUpper(s), nil
	}))
	require.Equal(t, map[string]string{"name": "a", "list[0]": "b", "list[1]": "c", "pointer": "e", "nested.word": "d"}, seen)
	require.Equal(t, []string{"B", "C"}, v.List)
	require.Equal(t, "never", v.hidden)
}

func TestIfMatchIsOneTag(t *testing.T) {
	for text, want := range map[string]string{"": "", "*": "", `"7-3"`: "7-3", ` "7-3" `: "7-3"} {
		got, err := ifMatch([]string{text})
		require.NoError(t, err, text)
		require.Equal(t, want, got)
	}
	for _, text := range []string{"7-3", `"7-3", "7-4"`, `W/"7-3"`, `"`, `""`} {
		_, err := ifMatch([]string{text})
		require.ErrorContains(t, err, "If-Match takes one tag", text)
	}
}

func TestOneKeyHasItsShareAndTakesNobodyElses(t *testing.T) {
	p := throttle.Paces[int64]{Rate: 2}
	took := map[int64]int{}
	for range 1000 {
		for key := int64(1); key <= 3; key++ {
			if key == 1 || took[key] < 5 { // the first floods
				if p.Allow(announcementOfKey, key) {
					took[key]++
				}
			}
		}
	}
	require.InDelta(t, announcementOfKey.Burst*2, took[1], 10)
	require.Equal(t, 5, took[2])
	require.Equal(t, 5, took[3])
	require.True(t, p.Allow(lanReportOfKey, 1), "each kind has a share of its own")
}

func TestErrorsHaveTheStatusThatFits(t *testing.T) {
	pg := func(code string) error { return &pgconn.PgError{Code: code, Message: "no"} }
	for want, list := range map[int][]error{
		400: {problemOf(400, "not-readable", "no")},
		401: {errNobody, access.ErrKey},
		403: {errNotYours, errIntent, errOnce},
		404: {store.Missing{Kind: "site", Name: "KET-07"}},
		422: {site.Flaws{{Field: "name", Detail: "is missing"}}, changes.Refused{Reason: "no"},
			wan.ErrNotPublic{Addr: netip.MustParseAddr("10.0.0.1"), Class: wan.ClassPrivate}},
		429: {errTooMany, errTooOften, throttle.TooMany{Wait: time.Second}},
		503: {engine.ErrStandby, store.ErrNotWriter, changes.ErrBusy, changes.ErrNotRecorded, throttle.ErrHashing, errStarting,
			pg("53100"), pg("53300"), pg("57P01"), pg("08006")},
		500: {errors.New("what nobody thought of"), pg("22P02")},
	} {
		for _, err := range list {
			require.Equal(t, want, explain(err).Status, "%T %v", err, err)
		}
	}
	require.NotContains(t, explain(errors.New("secret of the house")).Detail, "secret", "what went wrong inside stays inside")
	f := explain(site.Flaws{{Field: "name", Detail: "is missing"}, {Field: "code", Detail: "is taken"}})
	require.Len(t, f.Errors, 2)
}

func TestAReportOfASourceIsBounded(t *testing.T) {
	now := time.Date(2026, 3, 4, 12, 0, 0, 0, time.UTC)
	got, err := readReport(contract.SourceReport{Source: "stun", IPv4: "198.51.100.7", IPv6: "2001:db8::7", AgeMS: 1500}, now)
	require.NoError(t, err)
	require.Equal(t, wan.Pair{IPv4: netip.MustParseAddr("198.51.100.7"), IPv6: netip.MustParseAddr("2001:db8::7")}, got.Addresses)
	require.Equal(t, now.Add(-1500*time.Millisecond), got.At)
	for what, in := range map[string]contract.SourceReport{
		"source":        {Source: "oracle"},
		"family":        {Source: "stun", IPv4: "2001:db8::7"},
		"no address":    {Source: "stun", IPv4: "here"},
		"from tomorrow": {Source: "stun", AgeMS: -1},
		"too old":       {Source: "stun", AgeMS: maxNoticed.Milliseconds() + 1},
		"overflow":      {Source: "stun", AgeMS: 1<<63 - 1},
		"via":           {Source: "stun", Via: strings.Repeat("x", maxWords+1)},
	} {
		_, err := readReport(in, now)
		require.Error(t, err, what)
	}
	for what, s := range map[string]contract.DeviceReport{
		"device": {Device: strings.Repeat("x", maxWords+1)},
		"ports":  {Ports: make([]contract.PortSeen, maxDevices+1)},
		"detail": {Ports: []contract.PortSeen{{Detail: strings.Repeat("x", maxWords+1)}}},
		"print":  {Ports: []contract.PortSeen{{Fingerprint: strings.Repeat("x", maxWords+1)}}},
		"loop":   {Ports: []contract.PortSeen{{Loop: strings.Repeat("x", maxWords+1)}}},
	} {
		require.Error(t, checkReport(s), what)
	}
}

func TestNumbersAndInstantsInAQuery(t *testing.T) {
	at := func(query string) *echo.Context { return asking("GET", "/?"+query, "", nil) }
	got, err := number(at("limit=7"), "limit", 50, 1, 500)
	require.NoError(t, err)
	require.Equal(t, 7, got)
	got, err = number(at(""), "limit", 50, 1, 500)
	require.NoError(t, err)
	require.Equal(t, 50, got)
	for _, bad := range []string{"0", "501", "-1", "1e3", "99999999999999999999", "x"} {
		_, err := number(at("limit="+bad), "limit", 50, 1, 500)
		require.ErrorContains(t, err, "is not a number from 1 to 500", bad)
	}
	for _, bad := range []string{"yesterday", "2026-13-01T00:00:00Z", "9999999-01-01T00:00:00Z"} {
		_, err := instant(at("from="+bad), "from", time.Time{})
		require.ErrorContains(t, err, "is not a time; write it as", bad)
	}
	when, err := instant(at("from=2026-03-04T12:00:00Z"), "from", time.Time{})
	require.NoError(t, err)
	require.Equal(t, 2026, when.Year())
}
