package api

import (
	"net/http"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/contract"
)

func TestWhomAProxySpeaksFor(t *testing.T) {
	t.Parallel()
	proxies := []netip.Prefix{netip.MustParsePrefix("198.51.100.0/24"), netip.MustParsePrefix("2001:db8:5::/48")}
	x, f := trust{proxies, ByXForwarded}, trust{proxies, ByForwarded}
	type headers map[string][]string
	for name, c := range map[string]struct {
		by      trust
		from    string
		headers headers
		want    string
		secure  bool
	}{
		"nobody in between": {x, "203.0.113.9:1234", nil, "203.0.113.9", false},
		"somebody who says so": {x, "203.0.113.9:1234", headers{"X-Forwarded-For": {"192.0.2.1"}, "X-Forwarded-Proto": {"https"}},
			"203.0.113.9", false},
		"a proxy": {x, "198.51.100.7:1234", headers{"X-Forwarded-For": {"192.0.2.1"}, "X-Forwarded-Proto": {"HTTPS"}}, "192.0.2.1", true},
		"a proxy without TLS": {x, "198.51.100.7:1234", headers{"X-Forwarded-For": {"192.0.2.1"}, "X-Forwarded-Proto": {"http"}},
			"192.0.2.1", false},
		"a proxy that says nothing": {x, "198.51.100.7:1234", nil, "198.51.100.7", false},
		"two proxies":               {x, "198.51.100.7:1234", headers{"X-Forwarded-For": {"192.0.2.1, 198.51.100.8"}}, "192.0.2.1", false},
		"what the client wrote before": {x, "198.51.100.7:1234", headers{"X-Forwarded-For": {"10.9.9.9, 203.0.113.4", "198.51.100.8"}},
			"203.0.113.4", false},
		"the other header is not believed": {x, "198.51.100.7:1234",
			headers{"X-Forwarded-For": {"192.0.2.1"}, "Forwarded": {"for=10.9.9.9;proto=https"}}, "192.0.2.1", false},
		"with a port": {x, "198.51.100.7:1234", headers{"X-Forwarded-For": {"192.0.2.1:4711"}}, "192.0.2.1", false},
		"no address":  {x, "198.51.100.7:1234", headers{"X-Forwarded-For": {"somebody"}}, "somebody", false},
		"Forwarded": {f, "198.51.100.7:1234", headers{"Forwarded": {"for=192.0.2.1;proto=https;by=198.51.100.7"}}, "192.0.2.1",
			true},
		"over IPv6": {f, "[2001:db8:5::1]:80", headers{"Forwarded": {`For="[2001:db8:9::17]:4711";Proto=http`}}, "2001:db8:9::17",
			false},
		"IPv6 without one": {f, "[2001:db8:5::1]:80", headers{"Forwarded": {`for="[2001:db8:9::17]"`}}, "2001:db8:9::17", false},
		"through two": {f, "198.51.100.7:1234", headers{"Forwarded": {"for=10.9.9.9, for=192.0.2.1;proto=https",
			"for=198.51.100.8;proto=http"}},
			"192.0.2.1", false},
		"hidden": {f, "198.51.100.7:1234", headers{"Forwarded": {"for=_gazonk"}}, "_gazonk", false},
		"not theirs": {f, "198.51.100.7:1234", headers{"X-Forwarded-For": {"10.9.9.9"}, "X-Forwarded-Proto": {"https"}}, "198.51.100.7",
			false},
		"empty": {f, "198.51.100.7:1234", headers{"Forwarded": {" , "}}, "198.51.100.7", false},
	} {
		r := &http.Request{RemoteAddr: c.from, Header: http.Header(c.headers)}
		require.Equal(t, c.want, c.by.extractor()(r), name)
		require.Equal(t, c.secure, c.by.secure(r), name)
	}
}

// What a proxy passes on of a client's own header is never more than words, and the last proxy's word counts.
func FuzzForwarded(f *testing.F) {
	f.Add("for=192.0.2.1;proto=https", "10.9.9.9, 203.0.113.4")
	f.Add(`for="[2001:db8:9::17]:4711"`, ",,")
	proxies := []netip.Prefix{netip.MustParsePrefix("198.51.100.0/24")}
	f.Fuzz(func(t *testing.T, forwarded, x string) {
		r := &http.Request{RemoteAddr: "198.51.100.7:1234", Header: http.Header{"Forwarded": {forwarded, "for=192.0.2.9"},
			"X-Forwarded-For": {x, "192.0.2.9"}}}
		for _, by := range []string{ByForwarded, ByXForwarded} {
			require.Equal(t, "192.0.2.9", trust{proxies, by}.extractor()(r))
			_ = trust{proxies, by}.secure(r)
		}
	})
}

// A document is read, or it is said what is wrong with it.
func FuzzRead(f *testing.F) {
	f.Add([]byte(`{"code":"KET-07","name":"Lighthouse Museum","tags":["north"]}`))
	f.Add([]byte(`{"code":7}`))
	f.Fuzz(func(t *testing.T, doc []byte) {
		for _, v := range []any{&contract.SiteInput{}, &contract.ServiceInput{}, &contract.Announcement{}, &contract.OutcomeBatch{}} {
			if err := read(doc, v); err != nil {
				require.Less(t, explain(err).Status, 500, "%v", err)
			}
		}
	})
}
