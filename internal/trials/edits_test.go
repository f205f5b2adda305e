package trials_test

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/testbed"
)

// furnished is a service with one of every kind of resource on record.
func furnished(t testing.TB, edit func(*options)) *testbed.Service {
	t.Helper()
	s := start(t, edit)
	s.Record(t, "KET-07")
	s.Name(t, "KET-07")
	s.Device(t, "KET-07", "recorder")
	_, err := s.Client.AddService(t.Context(), "KET-07",
		contract.ServiceInput{Name: "page", Device: "recorder", External: "8443", Interval: 60})
	require.NoError(t, err)
	_, err = s.Client.AddAlias(t.Context(), contract.AliasInput{Name: "museum." + zone, Hostname: "ket-07." + zone})
	require.NoError(t, err)
	_, err = s.Client.AddRedirect(t.Context(), contract.RedirectInput{Name: "view." + zone, Hostname: "ket-07." + zone, Port: 8081})
	require.NoError(t, err)
	return s
}

// kind is how one kind of resource is edited in two fields, and read.
type kind struct {
	a, b  string // fields
	value func(n int) (a, b any)
	edit  func(ctx context.Context, c *client.Client, f client.Fields) error
	read  func(ctx context.Context, c *client.Client) (a, b any, tag string, err error)
}

func kinds() map[string]kind {
	const host, view = "ket-07." + zone, "view." + zone
	return map[string]kind{
		"site": {"note", "name", func(n int) (any, any) { return fmt.Sprintf("note %d", n), fmt.Sprintf("name %d", n) },
			func(ctx context.Context, c *client.Client, f client.Fields) error {
				_, err := c.EditSite(ctx, "KET-07", f)
				return err
			},
			func(ctx context.Context, c *client.Client) (any, any, string, error) {
				s, err := c.Site(ctx, "KET-07")
				return s.Note, s.Name, s.Tag(), err
			}},
		"link": {"provider", "router_address", func(n int) (any, any) {
			return fmt.Sprintf("provider %d", n),
				fmt.Sprintf("192.168.%d.1", n%250)
		},
			func(ctx context.Context, c *client.Client, f client.Fields) error {
				_, err := c.EditLink(ctx, "KET-07", "main", f)
				return err
			},
			func(ctx context.Context, c *client.Client) (any, any, string, error) {
				l, err := c.Link(ctx, "KET-07", "main")
				return l.Provider, l.RouterWAN.String(), l.Tag(), err
			}},
		"device": {"mac", "lan_address", func(n int) (any, any) {
			return fmt.Sprintf("02:00:5e:07:00:%02x", n%250), fmt.Sprintf("192.168.7.%d", 1+n%250)
		},
			func(ctx context.Context, c *client.Client, f client.Fields) error {
				_, err := c.EditDevice(ctx, "KET-07", "recorder", f)
				return err
			},
			func(ctx context.Context, c *client.Client) (any, any, string, error) {
				d, err := c.Device(ctx, "KET-07", "recorder")
				return d.MAC, d.Address.String(), d.Tag(), err
			}},
		"service": {"interval_seconds", "internal", func(n int) (any, any) { return 60 + n, fmt.Sprint(1000 + n) },
			func(ctx context.Context, c *client.Client, f client.Fields) error {
				_, err := c.EditService(ctx, "KET-07", "page", f)
				return err
			},
			func(ctx context.Context, c *client.Client) (any, any, string, error) {
				s, err := c.Service(ctx, "KET-07", "page")
				return s.Interval, s.Internal, s.Tag(), err
			}},
		"hostname": {"ttl_seconds", "mail", func(n int) (any, any) { return 30 + n, fmt.Sprintf("mail%d.example", n) },
			func(ctx context.Context, c *client.Client, f client.Fields) error {
				_, err := c.EditHostname(ctx, host, f)
				return err
			},
			func(ctx context.Context, c *client.Client) (any, any, string, error) {
				h, err := c.Hostname(ctx, host)
				return h.TTL, string(h.Mail), h.Tag(), err
			}},
		"zone": {"ttl_seconds", "contact", func(n int) (any, any) { return 30 + n, fmt.Sprintf("post%d.saltmarsh.example", n) },
			func(ctx context.Context, c *client.Client, f client.Fields) error {
				_, err := c.EditZone(ctx, zone, f)
				return err
			},
			func(ctx context.Context, c *client.Client) (any, any, string, error) {
				z, err := c.Zone(ctx, zone)
				return int(z.TTL), string(z.Contact), z.Tag(), err
			}},
		"redirect": {"port", "path", func(n int) (any, any) { return 8000 + n, fmt.Sprintf("/view/%d", n) },
			func(ctx context.Context, c *client.Client, f client.Fields) error {
				_, err := c.EditRedirect(ctx, view, f)
				return err
			},
			func(ctx context.Context, c *client.Client) (any, any, string, error) {
				r, err := c.Redirect(ctx, view)
				return r.Port, r.Path, r.Tag(), err
			}},
	}
}

// pairs is how many pairs of simultaneous edits are made of each kind: a thousand in all.
const pairs = 143

func TestOfTwoSimultaneousEditsNoneIsLostSilently(t *testing.T) {
	t.Parallel()
	s := furnished(t, nil)
	kept, refused := 0, 0
	for name, k := range kinds() {
		t.Run(name, func(t *testing.T) {
			for n := range pairs {
				a, b := k.value(n)
				_, _, tag, err := k.read(t.Context(), s.Client)
				require.NoError(t, err)
				ctx := t.Context()
				if n%2 == 1 { // every other pair says which revision it has read
					ctx = client.OnlyIf(ctx, tag)
				}
				var wg sync.WaitGroup
				var errs [2]error
				wg.Go(func() { errs[0] = k.edit(ctx, s.Client, client.Fields{k.a: a}) })
				wg.Go(func() { errs[1] = k.edit(ctx, s.Client, client.Fields{k.b: b}) })
				wg.Wait()
				gotA, gotB, _, err := k.read(t.Context(), s.Client)
				require.NoError(t, err)
				for i, x := range []struct{ want, got any }{{a, gotA}, {b, gotB}} {
					switch {
					case errs[i] == nil:
						require.Equal(t, x.want, x.got, "pair %d: an edit that was answered with 200 is there", n)
						kept++
					case n%2 == 1:
						require.Equal(t, 412, status(errs[i]), "pair %d: %v", n, errs[i])
						refused++
					default:
						require.NoError(t, errs[i])
					}
				}
				if n%2 == 1 {
					require.True(t, errs[0] == nil || errs[1] == nil, "one of two that read the same revision is carried out")
				}
			}
		})
	}
	t.Logf("%d edits kept, %d answered with 412, none lost", kept, refused)
	require.Equal(t, 2*pairs*len(kinds()), kept+refused)
	require.GreaterOrEqual(t, refused, pairs/2*len(kinds()), "of each pair with a revision one came too late")
}

func TestAnEditOfAnOlderRevisionSaysWhoChangedWhat(t *testing.T) {
	t.Parallel()
	s := furnished(t, nil)
	before, err := s.Client.Site(t.Context(), "KET-07")
	require.NoError(t, err)
	_, err = s.Client.EditSite(t.Context(), "KET-07", client.Fields{"note": "Key at the cottage"})
	require.NoError(t, err)
	_, err = s.Client.EditSite(client.OnlyIf(t.Context(), before.Tag()), "KET-07", client.Fields{"name": "!", "code": ""})
	var p *client.Error
	require.ErrorAs(t, err, &p)
	require.Equal(t, 412, p.Status, "that it is old counts before anything that is wrong with it")
	require.Contains(t, p.Detail, "owner changed note")
	require.Len(t, p.Meanwhile, 1)
	require.Equal(t, "owner", p.Meanwhile[0].Person)
	require.WithinDuration(t, time.Now(), p.Meanwhile[0].At, time.Minute)
	require.Equal(t, []contract.FieldChange{{Field: "note", Before: []byte(`""`), After: []byte(`"Key at the cottage"`)}},
		p.Meanwhile[0].Changes)
	now, err := s.Client.Site(t.Context(), "KET-07")
	require.NoError(t, err)
	require.Equal(t, now.Tag(), p.Current)
	_, err = s.Client.EditSite(client.OnlyIf(t.Context(), p.Current), "KET-07", client.Fields{"name": "Lighthouse Museum"})
	require.NoError(t, err)

	// Removal honours it as well, and a resource that was made anew is another one.
	for name, remove := range map[string]func(ctx context.Context) error{
		"alias":    func(ctx context.Context) error { return s.Client.RemoveAlias(ctx, "museum."+zone) },
		"service":  func(ctx context.Context) error { return s.Client.RemoveService(ctx, "KET-07", "page") },
		"hostname": func(ctx context.Context) error { return s.Client.RemoveHostname(ctx, "ket-07."+zone) },
		"site":     func(ctx context.Context) error { return s.Client.RemoveSite(ctx, "KET-07") },
	} {
		require.Equal(t, 412, status(remove(client.OnlyIf(t.Context(), "999-1"))), name)
	}
	r := request(t, "GET", s.URL+"/api/v1/sites/KET-07", s.Key)
	now, err = s.Client.Site(t.Context(), "KET-07")
	require.NoError(t, err)
	require.Equal(t, `"`+now.Tag()+`"`, r.Header.Get("ETag"))
	require.Equal(t, 400, request(t, "DELETE", s.URL+"/api/v1/sites/KET-07", s.Key, "If-Match", "7").StatusCode)
	require.NoError(t, s.Client.RemoveAlias(client.OnlyIf(t.Context(), aliasTag(t, s)), "museum."+zone))
}

func aliasTag(t *testing.T, s *testbed.Service) string {
	t.Helper()
	a, err := s.Client.Alias(t.Context(), "museum."+zone)
	require.NoError(t, err)
	return a.Tag()
}

func TestTwoCannotPutACNAMEBesideAnAddress(t *testing.T) {
	t.Parallel()
	s := furnished(t, nil)
	for n := range 40 {
		name := fmt.Sprintf("n%d.%s", n, zone)
		var wg sync.WaitGroup
		var carried atomic.Int64
		wg.Go(func() {
			if _, err := s.Client.AddAlias(t.Context(), contract.AliasInput{Name: name, Hostname: "ket-07." + zone}); err == nil {
				carried.Add(1)
			}
		})
		wg.Go(func() {
			if _, err := s.Client.AddHostname(t.Context(), contract.HostnameInput{Name: name, Site: "KET-07"}); err == nil {
				carried.Add(1)
			}
		})
		wg.Go(func() {
			if _, err := s.Client.AddZoneRecord(t.Context(), zone,
				contract.RecordInput{Name: names.Name(name), Type: "TXT", Data: `"slip"`, TTL: new(30)}); err == nil {
				carried.Add(1)
			}
		})
		wg.Wait()
		alias, errA := s.Client.Alias(t.Context(), name)
		_, errH := s.Client.Hostname(t.Context(), name)
		require.False(t, errA == nil && errH == nil, "%s is both: %v", name, alias)
		if errA == nil {
			require.EqualValues(t, 1, carried.Load(), "a CNAME stands alone (RFC 1034 section 3.6.2)")
		}
	}
}

func TestAStaticLinkIsRecordedWithItsAddressOrNotAtAll(t *testing.T) {
	t.Parallel()
	database := testbed.Database(t)
	s := start(t, func(o *options) { o.Database = database })
	s.Record(t, "DIS-01")
	query(t, database, `CREATE FUNCTION no() RETURNS trigger LANGUAGE plpgsql
		AS $$ BEGIN RAISE EXCEPTION 'full' USING ERRCODE = '53100'; END $$`)
	query(t, database, `CREATE TRIGGER no BEFORE INSERT ON accepted FOR EACH ROW EXECUTE FUNCTION no()`)
	_, err := s.Client.AddLink(t.Context(), "DIS-01", contract.LinkInput{Label: "fixed", Mode: "static", IPv4: "203.0.113.2"})
	require.Equal(t, 503, status(err), "a full disk is no fault of the request: %v", err)
	_, err = s.Client.Link(t.Context(), "DIS-01", "fixed")
	require.Equal(t, 404, status(err), "half of it would be a link without an address")
	query(t, database, `DROP TRIGGER no ON accepted`)
	l, err := s.Client.AddLink(t.Context(), "DIS-01", contract.LinkInput{Label: "fixed", Mode: "static", IPv4: "203.0.113.2"})
	require.NoError(t, err)
	require.Equal(t, "203.0.113.2", l.IPv4.String())
	moves, err := s.Client.Moves(t.Context(), contract.MoveQuery{Site: "DIS-01", Limit: 5})
	require.NoError(t, err)
	require.Len(t, moves, 1)
	require.Equal(t, "fixed", moves[0].Source)
	_, err = s.Client.EditLink(t.Context(), "DIS-01", "fixed", client.Fields{"ipv4": "203.0.113.3"})
	require.NoError(t, err)
	l, err = s.Client.Link(t.Context(), "DIS-01", "fixed")
	require.NoError(t, err)
	require.Equal(t, "203.0.113.3", l.IPv4.String())
}

func TestAZoneFileAndAnEditAtOnceAreBothThere(t *testing.T) {
	t.Parallel()
	s := furnished(t, nil)
	for n := range 20 {
		var wg sync.WaitGroup
		errs := make([]error, 2)
		wg.Go(func() {
			_, errs[0] = s.Client.ImportZone(t.Context(), zone, strings.NewReader(fmt.Sprintf("f%d 60 IN TXT \"file\"\n", n)),
				contract.ZoneImportInput{})
		})
		wg.Go(func() {
			_, errs[1] = s.Client.AddZoneRecord(t.Context(), zone,
				contract.RecordInput{Name: names.Name(fmt.Sprintf("r%d.%s", n, zone)), Type: "TXT", Data: `"typed"`, TTL: new(60)})
		})
		wg.Wait()
		require.NoError(t, errors.Join(errs...))
	}
	list, err := s.Client.ZoneRecords(t.Context(), zone)
	require.NoError(t, err)
	require.Len(t, list, 40)
}

func TestAnEditThatCannotBeReadBackTakesEffectLater(t *testing.T) {
	t.Parallel()
	database := testbed.Database(t)
	s := start(t, func(o *options) { o.Database = database })
	s.Record(t, "KET-07")
	query(t, database, `ALTER TABLE redirect RENAME TO away`)
	_, err := s.Client.EditSite(t.Context(), "KET-07", client.Fields{"code": "KET-70"}) // everything of it is read back
	require.Equal(t, 503, status(err))
	require.ErrorContains(t, err, "the change is recorded")
	query(t, database, `ALTER TABLE away RENAME TO redirect`)
	require.EventuallyWithT(t, func(c *collect) {
		_, err := s.Client.Site(t.Context(), "KET-70")
		require.NoError(c, err)
	}, 5*time.Second, 50*time.Millisecond)
}

func TestNoEditWaitsWithoutABound(t *testing.T) {
	t.Parallel()
	database := testbed.Database(t)
	s := start(t, func(o *options) { o.Database = database })
	s.Record(t, "KET-07")
	c, err := pgxConnect(t, database)
	require.NoError(t, err)
	_, err = c.Exec(t.Context(), `BEGIN; LOCK TABLE site IN ACCESS EXCLUSIVE MODE`)
	require.NoError(t, err)
	began := time.Now()
	var wg sync.WaitGroup
	for range 3 {
		wg.Go(func() {
			_, err := s.Client.EditSite(t.Context(), "KET-07", client.Fields{"note": "x"})
			require.Equal(t, 503, status(err), "%v", err)
		})
	}
	wg.Wait()
	require.Less(t, time.Since(began), 20*time.Second)
	require.NoError(t, c.Close(t.Context()))
	require.EventuallyWithT(t, func(c *collect) {
		_, err := s.Client.EditSite(t.Context(), "KET-07", client.Fields{"note": "y"})
		require.NoError(c, err)
	}, 15*time.Second, 100*time.Millisecond)
}
