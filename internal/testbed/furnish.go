package testbed

import (
	"strings"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
)

// Zone is the hosted zone of tests.
const Zone = "isles.saltmarsh.example"

// Record puts Zone, if it is not there yet, and a site with one dynamic link on record.
func (s *Service) Record(t testing.TB, code string) {
	t.Helper()
	ctx := t.Context()
	if _, err := s.Client.Zone(ctx, Zone); client.IsStatus(err, 404) {
		_, err := s.Client.AddZone(ctx, contract.ZoneInput{Apex: Zone, Servers: []string{"ns1." + Zone + "=198.51.100.1"}})
		require.NoError(t, err)
	}
	_, err := s.Client.AddSite(ctx, contract.SiteInput{Code: code, Name: "Site " + code})
	require.NoError(t, err)
	_, err = s.Client.AddLink(ctx, code, contract.LinkInput{Label: "main", Provider: "Kettle Cable"})
	require.NoError(t, err)
}

// Name puts the hostname of a site on record, and gives it.
func (s *Service) Name(t testing.TB, code string) string {
	t.Helper()
	name := strings.ToLower(code) + "." + Zone
	_, err := s.Client.AddHostname(t.Context(), contract.HostnameInput{Name: name, Site: code})
	require.NoError(t, err)
	return name
}

// Enrol returns an agent of a site's link main, which may announce any of the addresses that stand for public ones.
func (s *Service) Enrol(t testing.TB, code string) *client.Client {
	t.Helper()
	inv, err := s.Client.Invite(t.Context(), code, "main", Public...)
	require.NoError(t, err)
	e, err := s.Client.Enrol(t.Context(), contract.Enrolment{Code: inv.Code, Label: "test agent"})
	require.NoError(t, err)
	c, err := client.New(s.URL, e.Key)
	require.NoError(t, err)
	return c
}

// Router returns a router of a site's link main.
func (s *Service) Router(t testing.TB, code string) Router {
	t.Helper()
	r, err := NewRouter(t.Context(), s.Client, code, "main")
	require.NoError(t, err)
	return r
}

// Device puts a device on a site's record.
func (s *Service) Device(t testing.TB, code, name string) {
	t.Helper()
	_, err := s.Client.AddDevice(t.Context(), code, contract.DeviceInput{Name: name, Address: "192.168.7.20"})
	require.NoError(t, err)
}

// Resolve asks a name server for a name's A record; "" if it gives none, or does not answer within a second.
func Resolve(server, name string) string {
	c := dns.Client{Timeout: time.Second}
	r, _, err := c.Exchange(new(dns.Msg).SetQuestion(name+".", dns.TypeA), server)
	if err != nil {
		return ""
	}
	for _, rr := range r.Answer {
		if a, ok := rr.(*dns.A); ok {
			return a.A.String()
		}
	}
	return ""
}
