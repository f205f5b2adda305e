package console_test

import (
	"context"
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"
)

// Rules of axe-core: all of those for WCAG 2.2 up to AA and its best practices, or those that ask how bright something is.
const (
	everyRule  = `{resultTypes: ['violations'], preload: false}`
	brightness = `{resultTypes: ['violations'], preload: false, runOnly: ['color-contrast', 'link-in-text-block']}`
)

// violations runs rules of axe-core on what is shown.
func violations(t *testing.T, tab context.Context, axe, rules, what string) {
	t.Helper()
	do(t, tab, ran(axe))
	await(t, tab, `(window.axeDone = window.axeDone || axe.run(`+rules+`).then(r => { window.axeFound = r.violations.flatMap(v =>
		v.nodes.map(n => v.id + ' (' + v.impact + '): ' + n.target.join(' ') + ' ' + n.failureSummary.split('\n').slice(1, 3).join(';')))
			}))
		&& window.axeFound !== undefined`)
	found, err := chromedp.Run(tab, chromedp.Evaluate[[]string](`window.axeFound`))
	require.NoError(t, err)
	do(t, tab, ran(`delete window.axeDone; delete window.axeFound`))
	if len(found) > 0 {
		t.Errorf("%s:\n  %s", what, strings.Join(found[:min(len(found), 12)], "\n  "))
	}
}

// consolePage is a page of the console, with what has to be there before it is looked at, and the button that opens a dialog.
type consolePage struct{ path, there, dialog string }

// consolePages are all of them.
var consolePages = []consolePage{
	{"/", `[data-site="KET-07"]`, ""},
	{"/sites/KET-07", `#changes`, "Edit"},
	{"/sites/CLI-05", `#changes`, ""},
	{"/sites/KET-07/services/recorder-page", `[data-latency]`, "Edit"},
	{"/sites/KET-07/commissioning", `#commissioning`, ""},
	{"/names", `[data-line="ket-07.isles.saltmarsh.example"]`, ""},
	{"/moves", `#moves`, ""},
	{"/files", `#give`, ""},

	{"/vantages", `[data-vantage]`, ""},
	{"/causes", `#causes`, ""},
	{"/causes/forward-missing", `#cause .MuiTypography-h2`, ""},
	{"/notices", `#log`, "Add a rule"},
	{"/people", `#people [data-line]`, "Invite somebody"},
	{"/audit", `[data-act]`, ""},
	{"/settings", `#checkup`, ""},
	{"/docs", `main h1`, ""},
	{"/docs/metrics", `main table`, ""},
	{"/docs/names", `main pre`, ""},
	{"/account", `#sessions [data-session]`, "Set up an authenticator"},
}

// TestEveryPageCanBeUsedByEverybody looks at each page and dialog for what somebody who sees, hears or moves otherwise could not use. By
// night, only what is drawn differs.
func TestEveryPageCanBeUsedByEverybody(t *testing.T) {
	script, err := os.ReadFile("../../../web/node_modules/axe-core/axe.min.js")
	require.NoError(t, err)
	axe := string(script)
	for mode, rules := range map[string]string{"day": everyRule, "night": brightness} {
		t.Run(mode, func(t *testing.T) {
			t.Parallel()
			tab := signedIn(t)
			faults, err := owner.Faults(t.Context(), "", false)
			require.NoError(t, err)
			require.NotEmpty(t, faults, "the demo has a past")
			do(t, tab, ran(fmt.Sprintf(`localStorage.setItem('inkpost.mode', %q)`, mode)))
			for _, p := range append(slices.Clone(consolePages), consolePage{fmt.Sprintf("/faults/%d", faults[0].ID), "#fault", ""}) {
				do(t, tab, chromedp.Navigate(running.URL+p.path))
				await(t, tab, fmt.Sprintf(`document.querySelector(%q) !== null`, p.there))
				title, err := chromedp.Run(tab, chromedp.Title())
				require.NoError(t, err)
				require.Contains(t, title, "Ink Post", p.path)
				violations(t, tab, axe, rules, mode+" "+p.path)
				if p.dialog != "" {
					do(t, tab, chromedp.Click(fmt.Sprintf(`(//button[normalize-space()=%q])[1]`, p.dialog)),
						chromedp.WaitVisible(`[role="dialog"]`))
					violations(t, tab, axe, rules, mode+" "+p.path+", "+p.dialog)
				}
			}
		})
	}
	t.Run("keys and sign-in", func(t *testing.T) {
		t.Parallel()
		tab := signedIn(t)
		do(t, tab, chromedp.Navigate(running.URL))
		await(t, tab, `document.querySelector('[data-site]') !== null`)
		do(t, tab, chromedp.KeyEvent("?"), chromedp.WaitVisible(`[role="dialog"]`))
		violations(t, tab, axe, everyRule, "keys")
		do(t, tab, chromedp.KeyEvent("\x1b"))
		await(t, tab, `document.querySelector('[role="dialog"]') === null`)
		other := browser(t)
		do(t, other, chromedp.WaitVisible(`input[name="password"]`))
		violations(t, other, axe, everyRule, "sign-in")
	})
}

// A site is found and opened with the keys alone, and stays open where its page comes later than the list writes into its own
// address what is searched for.
func TestASiteIsOpenedWithTheKeys(t *testing.T) {
	t.Parallel()
	tab := signedIn(t)
	do(t, tab, chromedp.Navigate(running.URL+"/moves"))
	await(t, tab, `document.querySelector('#moves') !== null`)
	do(t, tab, chromedp.KeyEvent("/"))
	await(t, tab, `document.activeElement.type === 'search'`)
	do(t, tab, chromedp.Action[chromedp.Void](late))
	do(t, tab, chromedp.KeyEvent("museum"))
	await(t, tab, `document.querySelectorAll('[data-site]').length === 1`)
	do(t, tab, chromedp.KeyEvent("\r"))
	await(t, tab, `document.querySelector('#changes') !== null`)
	await(t, tab, `location.pathname === '/sites/KET-07'`)
}

// late has the parts of the console that are still to be fetched come two seconds late.
func late(ctx context.Context, _ *chromedp.Target) (v chromedp.Void, err error) {
	if _, err = chromedp.Call(ctx, network.Enable, network.EnableParams{}); err != nil {
		return v, err
	}
	_, err = chromedp.Call(ctx, network.EmulateNetworkConditionsByRule, network.EmulateNetworkConditionsByRuleParams{
		MatchedNetworkConditions: []*network.Conditions{
			{URLPattern: "*://*:*/assets/*", Latency: 2000, DownloadThroughput: -1, UploadThroughput: -1},
		}})
	return v, err
}
