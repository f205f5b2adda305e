package daemon_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/testbed"
)

// refused checks that err is a problem with this status that names the field and says why.
func refused(t *testing.T, err error, status int, field, why string) {
	t.Helper()
	var p *client.Error
	require.ErrorAs(t, err, &p)
	require.Equal(t, status, p.Status, p.Detail)
	require.Contains(t, p.Detail, why)
	require.True(t, strings.HasPrefix(p.Type, "urn:inkpost:problem:"), p.Type)
	if field == "" {
		return
	}
	for _, f := range p.Errors {
		if f.Field == field {
			return
		}
	}
	t.Fatalf("field %s is not named in %+v", field, p.Errors)
}

func TestBadInputIsNamedAndChangesNothing(t *testing.T) {
	s := testbed.Start(t, nil)
	ctx, c := t.Context(), s.Client
	record(t, s, "KET-07")
	record(t, s, "OYS-03")
	_, err := c.AddDevice(ctx, "KET-07", contract.DeviceInput{Name: "recorder", Address: "192.168.7.20"})
	require.NoError(t, err)
	_, err = c.AddService(ctx, "KET-07", contract.ServiceInput{Name: "page", Device: "recorder", External: "8443"})
	require.NoError(t, err)
	_, err = c.AddHostname(ctx, contract.HostnameInput{Name: "ket-07." + zone, Site: "KET-07"})
	require.NoError(t, err)
	before, err := c.Site(ctx, "KET-07")
	require.NoError(t, err)

	site := func(in contract.SiteInput) error { _, err := c.AddSite(ctx, in); return err }
	hostname := func(name, site string) error {
		_, err := c.AddHostname(ctx, contract.HostnameInput{Name: name, Site: site})
		return err
	}
	link := func(in contract.LinkInput) error { _, err := c.AddLink(ctx, "KET-07", in); return err }
	service := func(edit func(*contract.ServiceInput)) error {
		in := contract.ServiceInput{Name: "other", Device: "recorder", External: "9000"}
		edit(&in)
		_, err := c.AddService(ctx, "KET-07", in)
		return err
	}
	device := func(in contract.DeviceInput) error { _, err := c.AddDevice(ctx, "KET-07", in); return err }
	for name, x := range map[string]struct {
		err    error
		status int
		field  string
		why    string
	}{
		"site code":              {site(contract.SiteInput{Code: "!", Name: "x"}), 422, "code", "is not a site code"},
		"site code taken":        {site(contract.SiteInput{Code: "ket-07", Name: "x"}), 409, "code", "is taken"},
		"site name":              {site(contract.SiteInput{Code: "NEW-01"}), 422, "name", "is required"},
		"name too long":          {hostname(strings.Repeat("a", 64)+"."+zone, "KET-07"), 422, "name", "has 64 characters"},
		"name of bad letters":    {hostname("ket_07."+zone, "KET-07"), 422, "name", "letters a-z"},
		"name outside all zones": {hostname("a.elsewhere.example", "KET-07"), 422, "name", "below none of the zones"},
		"the zone's apex":        {hostname(zone, "KET-07"), 422, "name", "below none of the zones"},
		"the zone's own server":  {hostname("ns1."+zone, "KET-07"), 422, "name", "is a name server"},
		"name taken by a site":   {hostname("KET-07."+zone, "OYS-03"), 409, "name", "is taken"},
		"name of unknown site":   {hostname("x."+zone, "XXX-99"), 422, "site", "there is no site"},
		"port 0": {service(func(in *contract.ServiceInput) { in.External = "0" }), 422, "external",
			"port 0 is out of range"},
		"port 65536":     {service(func(in *contract.ServiceInput) { in.External = "65536" }), 422, "external", "port 65536"},
		"reversed range": {service(func(in *contract.ServiceInput) { in.External = "9003-9000" }), 422, "external", "is reversed"},
		"no port": {service(func(in *contract.ServiceInput) { in.External = "web" }), 422, "external",
			"neither a port nor a range"},
		"port claimed already": {service(func(in *contract.ServiceInput) { in.External = "8440-8450" }), 422, "external",
			"overlaps 8443 of page on device recorder"},
		"unknown device": {service(func(in *contract.ServiceInput) { in.Device = "toaster" }), 422, "device",
			"there is no device"},
		"unknown kind":  {service(func(in *contract.ServiceInput) { in.Kind = "smoke" }), 422, "kind", "is unknown"},
		"interval":      {service(func(in *contract.ServiceInput) { in.Interval = -1 }), 422, "interval_seconds", "out of range"},
		"service taken": {service(func(in *contract.ServiceInput) { in.Name = "page" }), 409, "name", "is taken"},
		"private as public": {link(contract.LinkInput{Label: "b", Mode: "static", IPv4: "192.168.1.1"}), 422, "ipv4",
			"is a private address"},
		"shared as public": {link(contract.LinkInput{Label: "b", Mode: "static", IPv4: "100.64.1.1"}), 422, "ipv4",
			"is a shared address"},
		"no address at all": {link(contract.LinkInput{Label: "b", Mode: "static", IPv4: "300.1.1.1"}), 422, "ipv4",
			"is not an IP address"},
		"address with a zone": {link(contract.LinkInput{Label: "b", Mode: "static", IPv6: "fe80::1%eth0"}), 422, "ipv6",
			"is not an IP address"},
		"address of dynamic link": {link(contract.LinkInput{Label: "b", IPv4: "198.51.100.4"}), 422, "ipv4", "learns its address"},
		"link taken":              {link(contract.LinkInput{Label: "main"}), 409, "label", "is taken"},
		"lan address": {device(contract.DeviceInput{Name: "x", Address: "192.168.7"}), 422, "lan_address",
			"is not an IP address"},
		"mac":              {device(contract.DeviceInput{Name: "x", Address: "192.168.7.9", MAC: "zz"}), 422, "mac", "is not a MAC"},
		"device in use":    {c.RemoveDevice(ctx, "KET-07", "recorder"), 409, "", "is in use by a service"},
		"zone in use":      {c.RemoveZone(ctx, zone), 409, "", "is in use by 1 hostnames"},
		"unknown site":     {c.RemoveSite(ctx, "XXX-99"), 404, "", `there is no site "XXX-99"`},
		"unknown hostname": {c.RemoveHostname(ctx, "nobody."+zone), 404, "", "there is no hostname"},
		"revoking nothing": {c.RevokeKey(ctx, 999999), 404, "", "there is no key"},
	} {
		t.Run(name, func(t *testing.T) { refused(t, x.err, x.status, x.field, x.why) })
	}
	_, err = c.EditHostname(ctx, "ket-07."+zone, client.Fields{"ttl_seconds": 0})
	refused(t, err, 422, "ttl_seconds", "TTL 0 is out of range")
	_, err = c.EditHostname(ctx, "ket-07."+zone, client.Fields{"site": "OYS-03"})
	refused(t, err, 422, "site", "stays with its site")
	_, err = c.EditZone(ctx, zone, client.Fields{"servers": []string{}})
	refused(t, err, 422, "servers", "has no name server")
	_, err = c.Moves(ctx, contract.MoveQuery{Limit: 501})
	refused(t, err, 422, "limit", "not a number from 1 to 500")

	after, err := c.Site(ctx, "KET-07")
	require.NoError(t, err)
	require.Equal(t, len(before.Services)+len(before.Links)+len(before.Hostnames)+len(before.Devices),
		len(after.Services)+len(after.Links)+len(after.Hostnames)+len(after.Devices))
	sites, err := c.Sites(ctx)
	require.NoError(t, err)
	require.Len(t, sites, 2)
}

// post sends raw bytes and returns the status and the problem.
func post(t *testing.T, s *testbed.Service, key, path, kind, body string, header ...string) (int, contract.Problem) {
	t.Helper()
	req, err := http.NewRequestWithContext(t.Context(), "POST", s.URL+path, strings.NewReader(body))
	require.NoError(t, err)
	req.Header.Set("Content-Type", kind)
	if key != "" {
		req.Header.Set("Authorization", "Bearer "+key)
	}
	for i := 0; i+1 < len(header); i += 2 {
		req.Header.Set(header[i], header[i+1])
	}
	r, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer r.Body.Close()
	doc, err := io.ReadAll(r.Body)
	require.NoError(t, err)
	var p contract.Problem
	if r.StatusCode >= 400 {
		require.Equal(t, "application/problem+json", r.Header.Get("Content-Type"), string(doc))
		require.NoError(t, json.Unmarshal(doc, &p))
		require.Equal(t, r.StatusCode, p.Status)
	}
	return r.StatusCode, p
}

func TestBadRequests(t *testing.T) {
	s := testbed.Start(t, nil)
	record(t, s, "KET-07")
	inv, err := s.Client.Invite(t.Context(), "KET-07", "main", testbed.Public...)
	require.NoError(t, err)
	e, err := s.Client.Enrol(t.Context(), contract.Enrolment{Code: inv.Code})
	require.NoError(t, err)
	_, err = s.Client.Enrol(t.Context(), contract.Enrolment{Code: inv.Code})
	refused(t, err, 403, "", "used already")

	const path = "/api/v1/agent/announcements"
	good := `{"source":"gateway","ipv4":"198.51.100.7"}`
	for name, x := range map[string]struct {
		key, path, kind, body string
		status                int
		why                   string
	}{
		"no key":    {"", path, "application/json", good, 401, "send a key"},
		"wrong key": {"inkpost-nonsense", path, "application/json", good, 401, "is unknown, was revoked or has expired"},
		"agent's key": {e.Key, "/api/v1/sites", "application/json", `{"code":"NEW-01","name":"x"}`, 403,
			"this key's scope does not allow this request"},
		"not JSON":        {e.Key, path, "text/plain", good, 415, "application/json"},
		"broken JSON":     {e.Key, path, "application/json", `{"source":`, 400, "cannot be read"},
		"two documents":   {e.Key, path, "application/json", good + good, 400, "unexpected data after the JSON document"},
		"unknown field":   {e.Key, path, "application/json", `{"source":"gateway","ip":"198.51.100.7"}`, 400, `unknown field "ip"`},
		"wrong type":      {e.Key, path, "application/json", `{"source":7}`, 422, "source"},
		"unknown source":  {e.Key, path, "application/json", `{"source":"rumour","ipv4":"198.51.100.7"}`, 422, "is unknown"},
		"private address": {e.Key, path, "application/json", `{"source":"gateway","ipv4":"10.1.1.1"}`, 422, "is a private address"},
		"wrong family":    {e.Key, path, "application/json", `{"source":"gateway","ipv4":"2001:db8::1"}`, 422, "other address family"},
		"no address":      {e.Key, path, "application/json", `{"source":"gateway"}`, 422, "no address given"},
		"noticed in future": {e.Key, path, "application/json", `{"source":"gateway","ipv4":"198.51.100.7","noticed_ms":-5}`, 422,
			"out of range"},
		"oversized": {e.Key, path, "application/json", `{"source":"` + strings.Repeat("x", 70<<10) + `"}`, 413,
			"larger than 64 kB"},
		"no such path":      {"", "/api/v1/nothing", "application/json", "{}", 404, "openapi.json"},
		"no such enrolment": {"", "/api/v1/agents", "application/json", `{"code":"AAAA-BBBB-CCCC"}`, 403, "not valid"},
		"wrong password": {"", "/api/v1/session", "application/json", `{"name":"owner","password":"guess"}`, 401,
			"wrong name or password"},
		"nobody of the name": {"", "/api/v1/session", "application/json", `{"name":"nobody","password":"guess"}`, 401,
			"wrong name or password"},
	} {
		t.Run(name, func(t *testing.T) {
			status, p := post(t, s, x.key, x.path, x.kind, x.body)
			require.Equal(t, x.status, status, p.Detail)
			require.Contains(t, p.Detail, x.why)
		})
	}
	l, err := s.Client.Link(t.Context(), "KET-07", "main")
	require.NoError(t, err)
	require.False(t, l.IPv4.IsValid(), "nothing was recorded")

	keys, err := s.Client.Keys(t.Context())
	require.NoError(t, err)
	require.Equal(t, "KET-07 main", keys[0].Holder)
	require.Empty(t, keys[0].Secret)
	require.NoError(t, s.Client.RevokeKey(t.Context(), keys[0].ID))
	status, p := post(t, s, e.Key, path, "application/json", good)
	require.Equal(t, 401, status, "a revoked key is worth nothing from then on")
	require.Contains(t, p.Detail, "revoked")
}

func TestForwardedForIsBelievedOfTrustedProxiesOnly(t *testing.T) {
	for _, trusted := range []bool{false, true} {
		t.Run(fmt.Sprint(trusted), func(t *testing.T) {
			s := testbed.Start(t, func(o *options) {
				if trusted {
					o.Proxies = []netip.Prefix{netip.MustParsePrefix("127.0.0.1/32")}
				}
			})
			record(t, s, "KET-07")
			inv, err := s.Client.Invite(t.Context(), "KET-07", "main", testbed.Public...)
			require.NoError(t, err)
			e, err := s.Client.Enrol(t.Context(), contract.Enrolment{Code: inv.Code})
			require.NoError(t, err)
			status, p := post(t, s, e.Key, "/api/v1/agent/announcements", "application/json", `{"source":"observed"}`,
				"X-Forwarded-For", "203.0.113.66, 198.51.100.9")
			l, err := s.Client.Link(t.Context(), "KET-07", "main")
			require.NoError(t, err)
			if trusted {
				require.Equal(t, 200, status)
				require.Equal(t, "198.51.100.9", l.IPv4.String(), "the nearest that is no proxy, not what the sender wrote in front")
				return
			}
			require.Equal(t, 422, status)
			require.Contains(t, p.Detail, "127.0.0.1 is a loopback address")
			require.False(t, l.IPv4.IsValid())
		})
	}
}

func TestSessionsNeedTheIntentHeaderAndAChosenPassword(t *testing.T) {
	s := testbed.Start(t, nil)
	anonymous, err := client.New(s.URL, "")
	require.NoError(t, err)
	visit, err := anonymous.SignIn(t.Context(), "owner", s.Password)
	require.NoError(t, err)
	require.False(t, visit.ChoosePassword())
	err = visit.ReplacePassword(t.Context(), contract.NewPassword{Old: s.Password, Password: "short"})
	refused(t, err, 422, "password", "10 to 200")

	sign := func(path string, intent bool) *http.Response {
		req, err := http.NewRequestWithContext(t.Context(), "POST", s.URL+"/api/v1/session",
			bytes.NewReader(fmt.Appendf(nil, `{"name":"owner","password":%q}`, s.Password)))
		require.NoError(t, err)
		req.Header.Set("Content-Type", "application/json")
		r, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		defer r.Body.Close()
		var session contract.Session
		require.NoError(t, json.NewDecoder(r.Body).Decode(&session))
		cookie := r.Cookies()[0]
		require.True(t, cookie.HttpOnly)
		require.Equal(t, http.SameSiteStrictMode, cookie.SameSite)
		req, err = http.NewRequestWithContext(t.Context(), "POST", s.URL+path, strings.NewReader(`{"code":"NEW-01","name":"New"}`))
		require.NoError(t, err)
		req.Header.Set("Content-Type", "application/json")
		req.AddCookie(cookie)
		if intent {
			req.Header.Set("X-Inkpost-Intent", session.CSRF)
		}
		r, err = http.DefaultClient.Do(req)
		require.NoError(t, err)
		t.Cleanup(func() { _ = r.Body.Close() })
		return r
	}
	require.Equal(t, 403, sign("/api/v1/sites", false).StatusCode, "a cookie alone changes nothing")
	require.Equal(t, 201, sign("/api/v1/sites", true).StatusCode)
	require.NoError(t, visit.SignOut(t.Context()))
	_, err = visit.AddKey(t.Context(), "late")
	refused(t, err, 401, "", "sign in")
}
