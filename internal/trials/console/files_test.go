package console_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/testbed/isles"
)

func TestAFileIsTakenOverInTheConsole(t *testing.T) {
	t.Parallel()
	hold(t, "DIS-01")
	t.Cleanup(func() {
		for _, name := range []string{"cask-a", "cask-b"} {
			_ = owner.RemoveDevice(context.Background(), "DIS-01", name)
		}
	})
	path := filepath.Join(t.TempDir(), "machines.csv")
	require.NoError(t, os.WriteFile(path, []byte("Kunde;Geraet;lan_address\nDIS-01;cask-a;127.201.4.90\nDIS-01;cask-b;nowhere\n"), 0o600))
	tab := signedIn(t)
	do(t, tab, chromedp.Navigate(running.URL+"/files"), chromedp.WaitVisible(`#take`),
		chromedp.SetUploadFiles(`input[name="file"]`, []string{path}), chromedp.WaitVisible(`input[name="kind"]`, chromedp.NodeReady))
	pick := func(label, choice string) {
		t.Helper()
		await(t, tab, fmt.Sprintf(`(() => {
			const named = c => (c.getAttribute('aria-labelledby') ?? '').split(' ').some(id => document.getElementById(id)?.textContent ===
				%q)
			return [...document.querySelectorAll('[role="combobox"]')].find(named)
				?.dispatchEvent(new MouseEvent('mousedown', { bubbles: true }))
		})() !== undefined`, label))
		await(t, tab, fmt.Sprintf(`(() => {
			const of = [...document.querySelectorAll('li[role="option"]')].find(o => o.textContent === %q)
			of?.click()
			return of !== undefined
		})()`, choice))
		do(t, tab, chromedp.WaitNotPresent(`[role="listbox"]`))
	}
	pick("What its lines are", "devices")
	pick("Kunde is", "site")
	pick("Geraet is", "name")
	do(t, tab, press("Show what it would do"), chromedp.WaitVisible(`[data-flaw="3"]`))
	await(t, tab, contains(`[data-flaw="3"]`, "line 3, lan_address"))
	await(t, tab, contains(`[data-step="add"]`, "cask-a"))
	do(t, tab, press("Import the lines that are right"), chromedp.WaitVisible(`[data-outcome="done"]`))
	await(t, tab, contains(`[data-outcome="done"]`, "1 added, 0 changed"))
	_, err := owner.Device(t.Context(), "DIS-01", "cask-a")
	require.NoError(t, err)
	do(t, tab, chromedp.EmulateViewport(390, 844))
	await(t, tab, `document.documentElement.scrollWidth <= 390`)
}

func TestSitesAreFoundKeptAndTaggedTogether(t *testing.T) {
	t.Parallel()
	hold(t, "BIR-08", "BOA-09")
	tags := map[string][]string{}
	for _, code := range []string{"BIR-08", "BOA-09"} {
		s, err := owner.Site(t.Context(), code)
		require.NoError(t, err)
		tags[code] = s.Tags
		t.Cleanup(func() { _, _ = owner.EditSite(context.Background(), code, map[string]any{"tags": tags[code]}) })
	}
	tab := signedIn(t)
	// By MAC, and by the note for the next visit.
	do(t, tab, chromedp.SendKeys(`input[type="search"]`, "02:00:5e:08"))
	await(t, tab, `document.querySelectorAll('[data-site]').length === 1 && document.querySelector('[data-site="BIR-08"]') !== null`)
	await(t, tab, `location.search.includes('find=02')`)
	do(t, tab, press("Keep this filter"), chromedp.Navigate(running.URL), chromedp.WaitVisible(`[data-kept]`))
	await(t, tab, `document.querySelectorAll('[data-site]').length > 5`)
	do(t, tab, chromedp.Click(`[data-kept] button`))
	await(t, tab, `document.querySelectorAll('[data-site]').length === 1`)
	do(t, tab, chromedp.Click(`[data-kept] [aria-label^="Forget"]`), chromedp.WaitNotPresent(`[data-kept]`),
		chromedp.Navigate(running.URL+"/?find=bo"), press("Several at once"), chromedp.WaitVisible(`[data-bulk]`),
		chromedp.Click(`input[aria-label="Choose BOA-09"]`, chromedp.NodeReady),
		chromedp.SendKeys(`//div[@data-bulk]//label[normalize-space()="Tag"]/..//input`, "wharf"), press("Give them the tag"))
	await(t, tab, contains(`[data-bulk]`, "1 of 1 done"))
	list, total, err := owner.SitesLike(t.Context(), contract.SiteQuery{Tag: "wharf"})
	require.NoError(t, err)
	require.Equal(t, 1, total)
	require.Equal(t, "BOA-09", list[0].Code)
	do(t, tab, press("Take the tag away"))
	await(t, tab, contains(`[data-bulk]`, "1 of 1 done"))
	_, total, err = owner.SitesLike(t.Context(), contract.SiteQuery{Tag: "wharf"})
	require.NoError(t, err)
	require.Zero(t, total)
	do(t, tab, chromedp.SendKeys(`//div[@data-bulk]//label[normalize-space()="What is done"]/..//input`, "the slipway is painted"),
		press("Plan work now"))
	await(t, tab, contains(`[data-bulk]`, "1 of 1 done"))
	work, err := owner.PlannedWork(t.Context())
	require.NoError(t, err)
	i := slices.IndexFunc(work, func(w contract.PlannedWork) bool { return w.Reason == "the slipway is painted" })
	require.GreaterOrEqual(t, i, 0)
	require.Equal(t, "BOA-09", work[i].Scope.Site)
	do(t, tab, chromedp.Navigate(running.URL+"/notices"), chromedp.WaitVisible(`#work [data-line="BOA-09"]`),
		chromedp.Click(`#work [data-line="BOA-09"] [aria-label^="Remove"]`), inDialog("Remove"),
		chromedp.WaitNotPresent(`#work [data-line="BOA-09"]`))
	do(t, tab, chromedp.Navigate(running.URL+"/?find=nobody-has-this"))
	await(t, tab, contains(`#sites`, "No site is like that."))
}

func TestARoutersListIsReadInTheConsole(t *testing.T) {
	t.Parallel()
	hold(t, "DIS-01")
	t.Cleanup(func() { _ = owner.RemoveDevice(context.Background(), "DIS-01", "still-house") })
	tab := signedIn(t)
	do(t, tab, chromedp.Navigate(running.URL+"/sites/DIS-01"), chromedp.WaitVisible(`#record`), press("From the router’s list"),
		chromedp.WaitVisible(`textarea[name="list"]`), chromedp.SendKeys(`textarea[name="list"]`, "nothing of the kind"), press("Read it"),
		chromedp.WaitVisible(`[role="dialog"] [role="alert"]`))
	do(t, tab, press("Cancel"), chromedp.WaitNotPresent(`textarea[name="list"]`), press("From the router’s list"),
		chromedp.WaitVisible(`textarea[name="list"]`), chromedp.SendKeys(`textarea[name="list"]`,
			"1964500000 02:00:5e:04:00:77 127.201.4.77 still-house *\n"), press("Read it"),
		chromedp.WaitVisible(`[data-listed="02:00:5e:04:00:77"]`))
	await(t, tab, contains(`[data-listed]`, "not on record"))
	do(t, tab, chromedp.Click(`input[aria-label="Put still-house on record"]`, chromedp.NodeReady), press("Put 1 on record"),
		chromedp.WaitNotPresent(`textarea[name="list"]`), chromedp.WaitVisible(`[data-line="device still-house"]`))
	d, err := owner.Device(t.Context(), "DIS-01", "still-house")
	require.NoError(t, err)
	require.Equal(t, "127.201.4.77", d.Address.String())
}

// A healthy site of five services is seen at a glance: one path, and a line for each other service.
func TestAHealthySiteFitsTheScreen(t *testing.T) {
	t.Parallel()
	hold(t, "SCH-04")
	_, err := owner.AddService(t.Context(), "SCH-04", contract.ServiceInput{Name: "second-page", Device: "files", External: "8444",
		Internal: "10443", Kind: "https", Expected: "closed"})
	require.NoError(t, err)
	t.Cleanup(func() { _ = owner.RemoveService(context.Background(), "SCH-04", "second-page") })
	require.Eventually(t, func() bool {
		s, err := owner.Service(t.Context(), "SCH-04", "second-page")
		return err == nil && s.AsExpected
	}, isles.Wide, 100*time.Millisecond)
	tab := signedIn(t)
	do(t, tab, chromedp.Navigate(running.URL+"/sites/SCH-04"), chromedp.WaitVisible(`[data-service="second-page"][data-folded]`))
	await(t, tab, `(() => {
		const services = [...document.querySelectorAll('[data-service]')]
		return services.length === 5 && services.filter(s => s.dataset.folded).length === 4 &&
			services.every(s => s.getBoundingClientRect().bottom <= 800)
	})()`)
	do(t, tab, chromedp.Click(`[aria-label="Show second-page"]`), chromedp.WaitVisible(`[data-service="second-page"] [data-hop="service"]`))
}
