package daemon_test

import (
	"bytes"
	"image"
	"image/jpeg"
	"io"
	"net/http"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/testbed"
)

// read fetches a page as somebody without an account.
func read(t *testing.T, url string) (status int, page string, header http.Header) {
	t.Helper()
	req, err := http.NewRequestWithContext(t.Context(), http.MethodGet, url, nil)
	require.NoError(t, err)
	r, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer r.Body.Close()
	body, err := io.ReadAll(r.Body)
	require.NoError(t, err)
	return r.StatusCode, string(body), r.Header
}

func TestASheetIsKeptAndReadByItsCustomerAlone(t *testing.T) {
	t.Parallel()
	var ahead atomic.Int64
	s := testbed.Start(t, func(o *testbed.Options) {
		o.Clock = func() time.Time { return time.Now().Add(time.Duration(ahead.Load())).UTC().Truncate(time.Microsecond) }
	})
	ctx, c := t.Context(), s.Client
	newcomer(t, s, "127.110.7.95")
	_, err := c.EditSite(ctx, "KET-07", client.Fields{"note": "the key is under the mat", "router": "hall cupboard"})
	require.NoError(t, err)
	_, err = c.EditLink(ctx, "KET-07", "main", client.Fields{"contract": "KC-204"})
	require.NoError(t, err)
	_, err = c.AddContact(ctx, "KET-07", contract.ContactInput{Role: "customer", Name: "Keeper", Mail: "keeper@saltmarsh.example"})
	require.NoError(t, err)
	_, err = c.AddSiteNote(ctx, "KET-07", "the customer pays late")
	require.NoError(t, err)

	first, err := c.KeepSheet(ctx, "KET-07", "hand-over")
	require.NoError(t, err)
	require.Equal(t, 1, first.Version)
	require.Empty(t, first.Changes)
	var both sync.WaitGroup
	for range 2 { // two who keep it at once keep two
		both.Go(func() {
			_, err := c.KeepSheet(ctx, "KET-07", "")
			require.NoError(t, err)
		})
	}
	both.Wait()
	_, err = c.EditDevice(ctx, "KET-07", "door-phone", client.Fields{"lan_address": "192.168.7.40"})
	require.NoError(t, err)
	now, err := c.Sheet(ctx, "KET-07", 0)
	require.NoError(t, err)
	require.Equal(t, []string{"the LAN address of door-phone was 192.168.7.22, and is 192.168.7.40"}, now.Changes)
	kept, err := c.Sheet(ctx, "KET-07", 1)
	require.NoError(t, err)
	require.Equal(t, "192.168.7.22", kept.Devices[0].Address, "a version stays as it was kept")
	list, err := c.Sheets(ctx, "KET-07")
	require.NoError(t, err)
	require.Equal(t, []int{3, 2, 1}, []int{list[0].Version, list[1].Version, list[2].Version})
	_, err = c.Sheet(ctx, "KET-07", 9)
	require.True(t, client.IsStatus(err, 404))
	for format, begin := range map[string]string{"html": "<!doctype html>", "pdf": "%PDF-", "markdown": "# KET-07", "csv": "section,"} {
		var b bytes.Buffer
		require.NoError(t, c.PrintSheet(ctx, "KET-07", 0, format, &b))
		require.True(t, strings.HasPrefix(b.String(), begin), format)
	}
	require.ErrorContains(t, c.PrintSheet(ctx, "KET-07", 0, "docx", io.Discard), "it is json, html, pdf, markdown or csv")

	_, err = c.ShareSheet(ctx, "KET-07", contract.SheetLinkInput{Days: 500})
	require.ErrorContains(t, err, "1 to 400 are allowed")
	require.ErrorContains(t, err, "who has it")
	link, err := c.ShareSheet(ctx, "KET-07", contract.SheetLinkInput{Whose: "Keeper", Days: 7})
	require.NoError(t, err)
	at := s.URL + link.URL[strings.Index(link.URL, "/handover/"):]
	status, page, header := read(t, at)
	require.Equal(t, 200, status)
	require.Contains(t, page, "view is not in use yet.")
	require.Contains(t, page, "KC-204")
	for _, mine := range []string{"pays late", "under the mat", "/sites/KET-07", link.URL} {
		require.NotContains(t, page, mine, "that is for colleagues")
	}
	require.Equal(t, "no-referrer", header.Get("Referrer-Policy"))
	require.Equal(t, "no-store", header.Get("Cache-Control"))
	status, page, _ = read(t, at+"?format=pdf")
	require.Equal(t, 200, status)
	require.True(t, strings.HasPrefix(page, "%PDF-"))
	status, _, _ = read(t, at+"?format=csv")
	require.Equal(t, 422, status)
	status, _, _ = read(t, s.URL+"/api/v1/sites/KET-07")
	require.Equal(t, 401, status, "and nothing else")
	links, err := c.SheetLinks(ctx, "KET-07")
	require.NoError(t, err)
	require.Empty(t, links[0].URL, "it is shown once")
	require.NotZero(t, links[0].Used)
	ahead.Add(int64(8 * 24 * time.Hour))
	status, _, _ = read(t, at)
	require.Equal(t, 404, status, "it ran out")
	ahead.Store(0)
	require.NoError(t, c.UnshareSheet(ctx, "KET-07", link.ID))
	status, _, _ = read(t, at)
	require.Equal(t, 404, status, "it was revoked")
	require.True(t, client.IsStatus(c.UnshareSheet(ctx, "KET-07", link.ID), 404))
	status, _, _ = read(t, s.URL+"/handover/x")
	require.Equal(t, 404, status)
}

func TestWhatIsKeptForTheNextVisit(t *testing.T) {
	t.Parallel()
	s := testbed.Start(t, nil)
	ctx, c := t.Context(), s.Client
	newcomer(t, s, "127.110.7.96")
	for words, in := range map[string]contract.ContactInput{"role": {Name: "x", Role: "uncle", Phone: "1"}, "name": {Phone: "1"},
		"nobody can be reached": {Name: "x"}, "is not a phone number": {Name: "x", Phone: "call me"},
		"is not a mail address": {Name: "x", Mail: "Keeper <a@b.example>"}} {
		_, err := c.AddContact(ctx, "KET-07", in)
		require.ErrorContains(t, err, words)
	}
	one, err := c.AddContact(ctx, "KET-07", contract.ContactInput{Role: "Key Holder", Name: " Harbour office ", Phone: "+44 (1632) 960007"})
	require.NoError(t, err)
	require.Equal(t, "key holder Harbour office", one.Role+" "+one.Name)
	one, err = c.EditContact(ctx, "KET-07", one.ID, client.Fields{"note": "mornings"})
	require.NoError(t, err)
	require.Equal(t, "+44 (1632) 960007 mornings", one.Phone+" "+one.Note)
	var both sync.WaitGroup
	for _, f := range []client.Fields{{"note": "evenings"}, {"phone": "01632 960008"}} {
		both.Go(func() {
			_, err := c.EditContact(ctx, "KET-07", one.ID, f)
			require.NoError(t, err)
		})
	}
	both.Wait()
	list, err := c.Contacts(ctx, "KET-07")
	require.NoError(t, err)
	require.Equal(t, "01632 960008 evenings", list[0].Phone+" "+list[0].Note)
	require.NoError(t, c.RemoveContact(ctx, "KET-07", one.ID))
	require.True(t, client.IsStatus(c.RemoveContact(ctx, "KET-07", one.ID), 404))

	_, err = c.AddSiteNote(ctx, "KET-07", "  ")
	require.ErrorContains(t, err, "is required")
	_, err = c.AddSiteNote(ctx, "KET-07", strings.Repeat("x", 8001))
	require.ErrorContains(t, err, "at most 8000 are allowed")
	_, err = c.AddSiteNote(ctx, "KET-07", strings.Repeat("x", 10<<20))
	require.True(t, client.IsStatus(err, 413))
	n, err := c.AddSiteNote(ctx, "KET-07", "replaced the disk")
	require.NoError(t, err)
	require.Equal(t, "owner", n.By)
	require.NoError(t, c.RemoveSiteNote(ctx, "KET-07", n.ID))

	var picture bytes.Buffer
	require.NoError(t, jpeg.Encode(&picture, image.NewRGBA(image.Rect(0, 0, 64, 32)), nil))
	p, err := c.AddPhoto(ctx, "KET-07", "router,  in the hall", bytes.NewReader(picture.Bytes()))
	require.NoError(t, err)
	require.Equal(t, "router, in the hall image/jpeg", p.Caption+" "+p.Kind)
	var back bytes.Buffer
	require.NoError(t, c.Photo(ctx, "KET-07", p.ID, &back))
	require.Equal(t, p.Bytes, back.Len())
	for _, file := range []string{"<svg onload=alert(1)>", strings.Repeat("x", 6<<20)} {
		_, err = c.AddPhoto(ctx, "KET-07", "", strings.NewReader(file))
		require.ErrorContains(t, err, "photo")
	}
	_, err = c.AddPhoto(ctx, "KET-07", "", bytes.NewReader(make([]byte, 20<<20)))
	require.True(t, client.IsStatus(err, 413))
	photos, err := c.Photos(ctx, "KET-07")
	require.NoError(t, err)
	require.Len(t, photos, 1)
	require.NoError(t, c.RemovePhoto(ctx, "KET-07", p.ID))
	require.True(t, client.IsStatus(c.Photo(ctx, "KET-07", p.ID, io.Discard), 404))
}
