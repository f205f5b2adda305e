package daemon_test

import (
	"testing"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/names"
)

func TestBadZoneContentIsNamedAndChangesNothing(t *testing.T) {
	s, key, _ := stocked(t)
	ctx, c := t.Context(), s.Client
	add := func(name, kind, data string, ttl int) error {
		in := contract.RecordInput{Name: names.Name(name), Type: kind, Data: data}
		if ttl != 0 {
			in.TTL = &ttl
		}
		_, err := c.AddZoneRecord(ctx, zone, in)
		return err
	}
	alias := func(name, hostname string, ttl int) error {
		_, err := c.AddAlias(ctx, contract.AliasInput{Name: name, Hostname: hostname, TTL: ttl})
		return err
	}
	host := func(in contract.HostnameInput) error { _, err := c.AddHostname(ctx, in); return err }
	editZone := func(f client.Fields) error { _, err := c.EditZone(ctx, zone, f); return err }
	sign := func(in contract.SigningKeyInput) error { _, err := c.AddSigningKey(ctx, in); return err }
	ket := "ket-07." + zone
	_, before, _ := answers(t, s.DNS, zone)
	for name, x := range map[string]struct {
		err    error
		status int
		field  string
		why    string
	}{
		"alias beside data":       {alias("web."+zone, ket, 0), 422, "name", "has HTTPS records"},
		"alias beside a hostname": {alias(ket, "deep.below.oys-03."+zone, 0), 422, "name", "has A records"},
		"alias of nothing":        {alias("new."+zone, "nobody."+zone, 0), 422, "hostname", "there is no hostname"},
		"alias taken":             {alias("lighthouse."+zone, ket, 0), 422, "name", "is on record already"},
		"alias with a wide TTL":   {alias("new."+zone, ket, 90000), 422, "ttl_seconds", "out of range"},
		"alias outside":           {alias("new.elsewhere.example", ket, 0), 422, "name", "below none of the zones"},
		"data beside an alias":    {add("lighthouse."+zone, "TXT", `"x"`, 60), 422, "name", "an alias stands alone"},
		"hostname beside an alias": {host(contract.HostnameInput{Name: "lighthouse." + zone, Site: "KET-07"}), 422, "name",
			"an alias stands alone"},
		"address of a hostname": {add(ket, "A", "198.51.100.1", 60), 422, "name", "cannot be entered by hand"},
		"wildcard at the apex":  {add("*."+zone, "A", "198.51.100.1", 60), 422, "name", "put the wildcard below a hostname"},
		"star in the middle":    {add("a.*."+zone, "A", "198.51.100.1", 60), 422, "name", "'*'"},
		"outside the zone":      {add("a.elsewhere.example", "A", "198.51.100.1", 60), 422, "name", "is not in zone"},
		"negative TTL":          {add("a."+zone, "A", "198.51.100.1", -1), 422, "ttl_seconds", "TTL -1 is out of range"},
		"unknown type":          {add("a."+zone, "SMOKE", "x", 60), 422, "type", "cannot be recorded"},
		"CNAME to itself":       {add("a."+zone, "CNAME", "a."+zone+".", 60), 422, "name", "in a circle"},
		"CNAME by its number":   {add("a."+zone, "TYPE5", "\\# 2 0000", 60), 422, "type", "write it as CNAME"},
		"data of another type":  {add("a."+zone, "A", "not an address", 60), 422, "data", "is not data of a A record"},
		"two lines":             {add("a."+zone, "TXT", "\"x\"\nb A 198.51.100.1", 60), 422, "data", "more than one line"},
		"a directive as data":   {add("a."+zone, "TXT", ") $INCLUDE /etc/passwd", 60), 422, "data", "is not data"},
		"the same again":        {add("fixed."+zone, "A", "198.51.100.200", 60), 422, "name", "on record already"},
		"NS at the apex":        {add(zone, "NS", "ns.elsewhere.example.", 60), 422, "name", "are set with the zone"},
		"delegating a hostname away": {add("below.oys-03."+zone, "NS", "ns.elsewhere.example.", 60), 422, "name",
			"would no longer be answered"},
		"hostname in another's zone": {host(contract.HostnameInput{Name: "n.away." + zone, Site: "KET-07"}), 422, "name",
			"is delegated away"},
		"a label with dots": {host(contract.HostnameInput{Name: "n." + zone, Site: "KET-07", Extras: []string{"a.b"}}), 422,
			"extras", "is not a label"},
		"mail to nowhere": {host(contract.HostnameInput{Name: "n." + zone, Site: "KET-07", Mail: "no_host"}), 422, "mail",
			"letters a-z"},
		"transfer to nonsense": {editZone(client.Fields{"transfer_to": []string{"everybody"}}), 422, "transfer_to",
			"neither an address nor a prefix"},
		"transfer by unknown key": {editZone(client.Fields{"transfer_key": "nobody.example"}), 422, "transfer_key",
			"there is no signing key"},
		"a hasty refresh": {editZone(client.Fields{"refresh_seconds": 5}), 422, "refresh_seconds", "30 to 604800 seconds"},
		"expires before it retries": {editZone(client.Fields{"expire_seconds": 3600, "refresh_seconds": 3600}), 422,
			"expire_seconds", "not longer than refresh and retry"},
		"notify nonsense": {editZone(client.Fields{"notify": []string{"ns2"}}), 422, "notify", "neither an address"},
		"key of unknown algorithm": {sign(contract.SigningKeyInput{Name: "k.example", Algorithm: "hmac-md5"}), 422, "algorithm",
			"one of hmac-sha256, hmac-sha512"},
		"key of unknown site": {sign(contract.SigningKeyInput{Name: "k.example", Site: "XXX-99"}), 422, "site", "there is no site"},
		"key taken":           {sign(contract.SigningKeyInput{Name: key.Name}), 409, "name", "is taken"},
		"removing no alias":   {c.RemoveAlias(ctx, "nobody."+zone), 404, "", "there is no alias"},
		"removing no record":  {c.RemoveZoneRecord(ctx, zone, 99999), 404, "", "there is no record"},
		"removing no key":     {c.RemoveSigningKey(ctx, "nobody.example"), 404, "", "there is no signing key"},
	} {
		t.Run(name, func(t *testing.T) {
			refused(t, x.err, x.status, x.field, x.why)
		})
	}
	_, after, _ := answers(t, s.DNS, zone)
	require.Equal(t, before, after, "what was refused left the serial alone")
}

func TestWhatStandsBesideAHostnameMovesAlongOrStays(t *testing.T) {
	s, _, agent := stocked(t)
	ask := func(name string, qtype uint16) (out []string) {
		c := dns.Client{}
		r, _, err := c.Exchange(new(dns.Msg).SetQuestion(name+".", qtype), s.DNS)
		require.NoError(t, err)
		for _, rr := range r.Answer {
			switch rr := rr.(type) {
			case *dns.A:
				out = append(out, rr.A.String())
			case *dns.MX:
				out = append(out, rr.Mx)
			case *dns.TXT:
				out = append(out, rr.Txt...)
			}
		}
		return out
	}
	ket := "ket-07." + zone
	_, err := s.Client.AddZoneRecord(t.Context(), zone, contract.RecordInput{Name: names.Name(ket), Type: "TXT", Data: `"beside"`})
	require.NoError(t, err)
	announce(t, agent, "198.51.100.55")
	for _, name := range []string{ket, "www." + ket, "anything.at.all." + ket, "lighthouse." + zone} {
		require.Equal(t, []string{"198.51.100.55"}, ask(name, dns.TypeA), name)
	}
	require.Equal(t, []string{ket + "."}, ask(ket, dns.TypeMX), "what does not move stays")
	require.Equal(t, []string{"beside"}, ask(ket, dns.TypeTXT))
	_, err = s.Client.EditHostname(t.Context(), ket, client.Fields{"extras": []string{"mail"}, "mail": ""})
	require.NoError(t, err)
	require.Empty(t, ask("www."+ket, dns.TypeA))
	require.Equal(t, []string{"198.51.100.55"}, ask("mail."+ket, dns.TypeA))
	require.Empty(t, ask(ket, dns.TypeMX))
	require.Equal(t, []string{"beside"}, ask(ket, dns.TypeTXT))
	require.NoError(t, s.Client.RemoveHostname(t.Context(), ket))
	require.Empty(t, ask("lighthouse."+zone, dns.TypeA), "an alias goes with its hostname")
	list, err := s.Client.Aliases(t.Context())
	require.NoError(t, err)
	require.Len(t, list, 1)
}
