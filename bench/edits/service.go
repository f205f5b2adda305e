package main

import (
	"context"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"inkpost.example/inkpost/bench/stocked"
	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/daemon"
	"inkpost.example/inkpost/internal/store/cluster"
)

const apex = "isles.saltmarsh.example"

// perSite is how many services each site has.
const perSite = 5

// service is the service on a record.
type service struct {
	daemon *daemon.Daemon
	client *client.Client
	keyID  int64
	plain  *pgx.Conn // beside the service, on its database
}

// start runs the service on a database with so many sites and records, written into it directly. Nobody answers at the services' ports, as
// it is expected: what is timed are edits, not a mass outage.
func start(ctx context.Context, c *cluster.Cluster, at setting) (*service, error) {
	url, err := stocked.Database(ctx, c, fmt.Sprintf("edits%d_%d", at.sites, at.records), append(stocked.Sites(at.sites),
		stocked.Services(perSite, 21001, 86400, probe.ExpectClosed),
		`INSERT INTO zone (apex, contact, serial, refresh, retry, expire, negative, ttl, servers)
			VALUES ('`+apex+`', 'hostmaster.`+apex+`', 1, 3600, 300, 1209600, 30, 300,
			'[{"name": "ns1.`+apex+`", "addresses": ["198.51.100.1"]}]')`,
		`INSERT INTO hostname (zone_id, site_id, name, ttl) SELECT z.id, s.id, lower(s.code) || '.' || z.apex, 30 FROM site s, zone z`,
		fmt.Sprintf(`INSERT INTO zone_record (zone_id, name, type, ttl, data)
			SELECT z.id, 'r' || g || '.' || z.apex, 'TXT', 300, '"' || g || '"' FROM zone z, generate_series(1, %d) g`, at.records))...)
	if err != nil {
		return nil, err
	}
	d, err := daemon.Start(ctx, daemon.Options{Database: url, HTTP: "127.0.0.1:0", DNS: "127.0.0.1:0", Redirect: "127.0.0.1:0",
		ShortestInterval: time.Second, Policy: stocked.Policy})
	if err != nil {
		return nil, err
	}
	if _, err := d.Engine().Access.EnsureOwner(ctx, "owner"); err != nil {
		return nil, err
	}
	person, err := d.Store().PersonNamed(ctx, "owner")
	if err != nil {
		return nil, err
	}
	key, err := d.Engine().AddKey(ctx, person.ID, person.Name, contract.KeyInput{Label: "bench"})
	if err != nil {
		return nil, err
	}
	s := &service{daemon: d}
	if s.plain, err = pgx.Connect(ctx, url); err != nil {
		return nil, err
	}
	if _, err = s.plain.Exec(ctx, `CREATE TABLE plain (n int)`); err != nil {
		return nil, err
	}
	if s.client, err = client.New(d.URL, key.Secret); err != nil {
		return nil, err
	}
	return s, stocked.Probed(ctx, d, perSite*at.sites)
}

// stop ends it.
func (s *service) stop(ctx context.Context) {
	_ = s.plain.Close(ctx)
	s.daemon.Stop()
}

// commit writes a row of four octets, durably: what the database and its disk take for the least edit that there is.
func (s *service) commit(ctx context.Context, n int) error {
	_, err := s.plain.Exec(ctx, `INSERT INTO plain VALUES ($1)`, n)
	return err
}

// editKind is an edit of one kind of resource; the nth differs from the one before.
type editKind struct {
	words string
	edit  func(ctx context.Context, s *service, n int) error
}

// code is the site whose parts are edited.
const code = "S1-1"

var edits = []editKind{
	{"site", func(ctx context.Context, s *service, n int) error {
		_, err := s.client.EditSite(ctx, code, client.Fields{"note": fmt.Sprint(n)})
		return err
	}},
	{"link", func(ctx context.Context, s *service, n int) error {
		_, err := s.client.EditLink(ctx, code, "main", client.Fields{"provider": fmt.Sprintf("Provider %d", n)})
		return err
	}},
	{"device", func(ctx context.Context, s *service, n int) error {
		_, err := s.client.EditDevice(ctx, code, "box", client.Fields{"lan_address": fmt.Sprintf("192.168.7.%d", 20+n%200)})
		return err
	}},
	{"service", func(ctx context.Context, s *service, n int) error {
		_, err := s.client.EditService(ctx, code, "service-0", client.Fields{"interval_seconds": 3600 + n})
		return err
	}},
	{"hostname", func(ctx context.Context, s *service, n int) error {
		_, err := s.client.EditHostname(ctx, "s1-1."+apex, client.Fields{"ttl_seconds": 30 + n})
		return err
	}},
	{"hostname, new", func(ctx context.Context, s *service, n int) error {
		_, err := s.client.AddHostname(ctx, contract.HostnameInput{Name: fmt.Sprintf("new%d.%s", n, apex), Site: code})
		return err
	}},
	{"alias, new", func(ctx context.Context, s *service, n int) error {
		_, err := s.client.AddAlias(ctx, contract.AliasInput{Name: fmt.Sprintf("alias%d.%s", n, apex), Hostname: "s1-1." + apex})
		return err
	}},
	{"record, new", func(ctx context.Context, s *service, n int) error {
		_, err := s.client.AddZoneRecord(ctx, apex,
			contract.RecordInput{Name: names.Name(fmt.Sprintf("text%d.%s", n, apex)), Type: "TXT", Data: `"bench"`})
		return err
	}},
	{"zone", func(ctx context.Context, s *service, n int) error {
		_, err := s.client.EditZone(ctx, apex, client.Fields{"negative_seconds": 30 + n})
		return err
	}},
	{"API key, new", func(ctx context.Context, s *service, n int) error {
		k, err := s.client.AddKey(ctx, contract.KeyInput{Label: fmt.Sprint(n)})
		s.keyID = k.ID
		return err
	}},
	{"API key, revoked", func(ctx context.Context, s *service, n int) error {
		return s.client.RevokeKey(ctx, s.keyID)
	}},
	{"signing key, new", func(ctx context.Context, s *service, n int) error {
		_, err := s.client.AddSigningKey(ctx, contract.SigningKeyInput{Name: fmt.Sprintf("k%d.example", n)})
		return err
	}},
}

// record puts one site on record and returns how many calls that took.
func record(ctx context.Context, s *service, n int) (calls int, err error) {
	code := fmt.Sprintf("N%d-1", n)
	do := func(_ any, e error) {
		calls++
		if err == nil && e != nil {
			err = fmt.Errorf("site %s: %w", code, e)
		}
	}
	do(s.client.AddSite(ctx, contract.SiteInput{Code: code, Name: "Site " + code}))
	do(s.client.AddLink(ctx, code, contract.LinkInput{Label: "main", Mode: "static", IPv4: fmt.Sprintf("127.65.%d.%d", n/250, 1+n%250)}))
	do(s.client.AddDevice(ctx, code, contract.DeviceInput{Name: "box", Address: "192.168.7.20", Reserved: true}))
	for i := range perSite {
		do(s.client.AddService(ctx, code, contract.ServiceInput{Name: fmt.Sprintf("service-%d", i), Device: "box", Kind: "tcp",
			External: fmt.Sprint(21001 + i), Expected: "closed", Interval: 86400}))
	}
	do(s.client.AddHostname(ctx, contract.HostnameInput{Name: fmt.Sprintf("n%d.%s", n, apex), Site: code}))
	return calls, err
}
