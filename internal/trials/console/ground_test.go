package console_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/testbed/isles"
)

func TestTheConsoleLoadsNothingThatItsOwnPolicyRefuses(t *testing.T) {
	t.Parallel()
	tab := signedIn(t)
	messages := chromedp.Console(tab)
	for _, path := range []string{"/", "/sites/DIS-01", "/names", "/moves"} {
		do(t, tab, chromedp.Navigate(running.URL+path))
		await(t, tab, `document.fonts.status === 'loaded' && [...document.fonts].some(f => f.status === 'loaded') && `+
			`![...document.fonts].some(f => f.status === 'error')`)
	}
	_, err := chromedp.Run(tab, chromedp.Evaluate[bool](`console.log('the end') || true`))
	require.NoError(t, err)
	for m, err := range messages {
		require.NoError(t, err)
		if strings.Contains(m.Text, "the end") {
			break
		}
		require.NotContains(t, strings.ToLower(m.String()), "refused")
		require.NotContains(t, m.String(), "Content Security Policy")
		require.NotEqual(t, "error", string(m.Type), m.String())
	}
}

func TestADoorThatStaysClosedReadsAsWanted(t *testing.T) {
	t.Parallel()
	tab := signedIn(t)
	do(t, tab, chromedp.Navigate(running.URL+"/sites/CLI-05"), chromedp.WaitVisible(`[data-service="router-page"]`))
	await(t, tab, contains(`[data-service="router-page"]`, "closed, as wanted"))
	await(t, tab, `!document.querySelector('[data-service="router-page"]').textContent.includes('unreachable')`)
}

func TestTheTrailShowsTimesSinceTheChangeWasNoticed(t *testing.T) {
	t.Parallel()
	hold(t, "FER-11")
	isles.AwaitAllReachable(t, owner, "FER-11")
	tab := signedIn(t)
	_, err := owner.Renumber(t.Context(), "FER-11", "main")
	require.NoError(t, err)
	do(t, tab, chromedp.Navigate(running.URL+"/sites/FER-11"), chromedp.WaitVisible(`#moves-main`))
	await(t, tab, contains(`#moves-main`, "confirmed +"))
	// In the first trail, each time is as long after the beginning as the one before, or longer.
	await(t, tab, `(() => {
		const unit = {'µs': 1e-6, 'ms': 1e-3, 's': 1, 'min': 60}
		const first = [...document.querySelectorAll('#moves-main [data-move]')][0] ?? document.querySelector('#moves-main')
		const times = [...first.textContent.matchAll(/\+([\d.]+) (µs|ms|s|min)/g)].map(m => m[1] * unit[m[2]])
		return times.length >= 3 && times.slice(0, 5).every((x, i, all) => i === 0 || i >= 5 || x >= all[i - 1] * 0.98)
	})()`)
}

func TestAnEditMeanwhileIsShownWithBothWaysOn(t *testing.T) {
	t.Parallel()
	hold(t, "SCH-04")
	tab := signedIn(t)
	button := func(text string) chromedp.Action[chromedp.Void] {
		return chromedp.Click(fmt.Sprintf(`//button[normalize-space()=%q]`, text))
	}
	edit := func(mine string) {
		do(t, tab, chromedp.Navigate(running.URL+"/sites/SCH-04"), chromedp.WaitVisible(`#record`), button("Edit the site"),
			chromedp.WaitVisible(`[name="note"]`))
		_, err := owner.EditSite(t.Context(), "SCH-04", client.Fields{"note": "theirs before " + mine})
		require.NoError(t, err)
		do(t, tab, chromedp.SendKeys(`[name="note"]`, mine), button("Save"), chromedp.WaitVisible(`[data-meanwhile]`))
		await(t, tab, contains(`[data-meanwhile]`, "owner edited this"))
		await(t, tab, contains(`[data-meanwhile]`, "theirs before "+mine))
	}
	note := func() string {
		s, err := owner.Site(t.Context(), "SCH-04")
		require.NoError(t, err)
		return s.Note
	}
	was := note()
	edit("first")
	require.Equal(t, "theirs before first", note(), "nothing is saved before somebody decides")
	do(t, tab, button("Take theirs"), chromedp.WaitNotPresent(`[data-meanwhile]`))
	require.Equal(t, "theirs before first", note())
	edit("second")
	do(t, tab, button("Save mine"), chromedp.WaitNotPresent(`[role="dialog"]`))
	require.Contains(t, note(), "second")
	require.NotEqual(t, "theirs before second", note())
	_, err := owner.EditSite(t.Context(), "SCH-04", client.Fields{"note": was})
	require.NoError(t, err)
}

func TestANameIsListedUnderItsOwnZoneOnly(t *testing.T) {
	t.Parallel()
	const child, alias, redirect = "harbour.isles.saltmarsh.example", "shop.harbour.isles.saltmarsh.example",
		"view.harbour.isles.saltmarsh.example"
	_, err := owner.AddZone(t.Context(), contract.ZoneInput{Apex: child, Servers: []string{"ns1." + child + "=198.51.100.1"}})
	require.NoError(t, err)
	_, err = owner.AddAlias(t.Context(), contract.AliasInput{Name: alias, Hostname: "ket-07.isles.saltmarsh.example"})
	require.NoError(t, err)
	_, err = owner.AddRedirect(t.Context(), contract.RedirectInput{Name: redirect, Hostname: "ket-07.isles.saltmarsh.example", Port: 8081})
	require.NoError(t, err)
	tab := signedIn(t)
	do(t, tab, chromedp.Navigate(running.URL+"/names"))
	for _, name := range []string{alias, redirect} {
		await(t, tab, fmt.Sprintf(`document.getElementById('zone-%s')?.textContent.includes(%q)`, child, name))
		await(t, tab, fmt.Sprintf(`!document.getElementById('zone-isles.saltmarsh.example').textContent.includes(%q)`, name))
	}
	require.NoError(t, owner.RemoveAlias(t.Context(), alias))
	require.NoError(t, owner.RemoveRedirect(t.Context(), redirect))
	require.NoError(t, owner.RemoveZone(t.Context(), child))
}
