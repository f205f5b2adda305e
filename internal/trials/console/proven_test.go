package console_test

import (
	"context"
	"fmt"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"
)

func pressed(within, text string) chromedp.Action[chromedp.Void] {
	return chromedp.Click(fmt.Sprintf(`//*[%s]//button[normalize-space()=%q]`, within, text))
}

func TestTheConsoleTellsTheStoryOfAProbe(t *testing.T) {
	t.Parallel()
	hold(t, "SCH-04")
	tab := signedIn(t)
	const vpn = `@data-service="vpn"`
	do(t, tab, chromedp.WaitVisible(`[data-site="SCH-04"]`), chromedp.Navigate(running.URL+"/sites/SCH-04"),
		chromedp.WaitVisible(`[data-service="vpn"][data-outcome="answered"]`),
		chromedp.Click(`[aria-label="Show vpn"]`), pressed(vpn, "Probe now"))
	await(t, tab, contains(`[data-service="vpn"] [data-trace="answered"]`, "WireGuard completes the handshake"))
}

func TestAServiceHasAPageOfItsOwn(t *testing.T) {
	t.Parallel()
	hold(t, "SCH-04")
	tab := signedIn(t)
	do(t, tab, chromedp.Navigate(running.URL+"/sites/SCH-04"), chromedp.WaitVisible(`[data-service="vpn"][data-outcome="answered"]`),
		chromedp.Click(`[data-service="vpn"] a`), chromedp.WaitVisible(`h1`))
	await(t, tab, `location.pathname === '/sites/SCH-04/services/vpn' && document.title === 'vpn, SCH-04 · Ink Post'`)
	await(t, tab, contains(`[data-service="vpn"]`, "gateway 51820"))
	await(t, tab, contains(`[data-view="harbour"]`, "answered"))
	await(t, tab, contains(`[data-card="Port forward"]`, "51820"))
	await(t, tab, `document.querySelectorAll('[data-window]').length === 5`)
	await(t, tab, `document.querySelectorAll('#path [data-hop]').length > 3`)
	// 90 days of a made-up past have a median a day, and a range of a week has the ends of a week.
	await(t, tab, `document.querySelectorAll('[data-latency="vpn"] rect').length > 80`)
	await(t, tab, `[...document.querySelectorAll('[data-latency="vpn"] path')].every(p => p.getAttribute('d').length > 500)`)
	do(t, tab, press("a week"))
	await(t, tab, contains(`#history`, "7 days"))
	do(t, tab, pressed(`@data-service="vpn"`, "Probe now"))
	await(t, tab, contains(`[data-trace="answered"]`, "WireGuard completes the handshake"))
	do(t, tab, chromedp.Click(`[aria-label="Edit service vpn"]`), chromedp.WaitVisible(`[role="dialog"] input[name="external"]`),
		press("Cancel"))
	do(t, tab, chromedp.EmulateViewport(390, 844))
	await(t, tab, `document.documentElement.scrollWidth <= 390`)
	do(t, tab, chromedp.Click(`//nav[@aria-label="The way back"]//a[normalize-space()="SCH-04"]`))
	await(t, tab, `location.pathname === '/sites/SCH-04'`)
	do(t, tab, chromedp.Navigate(running.URL+"/sites/SCH-04/services/nothing"))
	await(t, tab, contains(`[role="alert"]`, "There is no service nothing at SCH-04"))
}

func TestTheConsoleShowsAStrangerAndPinsIt(t *testing.T) {
	t.Parallel()
	hold(t, "RAD-06")
	tab := signedIn(t)
	t.Cleanup(func() { // other tests want to see the machine that was commissioned
		_, err := owner.Mend(context.Background(), "RAD-06")
		require.NoError(t, err)
		_, err = owner.ProbeNow(context.Background(), "RAD-06", "club-shell")
		require.NoError(t, err)
		_, err = owner.Pin(context.Background(), "RAD-06", "club-shell", "")
		require.NoError(t, err)
	})
	require.NoError(t, running.World.Replace("RAD-06", "club-shell", "another machine"))
	do(t, tab, chromedp.WaitVisible(`[data-site="RAD-06"]`), chromedp.Navigate(running.URL+"/sites/RAD-06"),
		chromedp.WaitVisible(`[data-service="club-shell"][data-outcome="stranger"][data-state="unreachable"]`))
	await(t, tab, contains(`[data-service="club-shell"]`, "it is not the club-shell that was commissioned"))
	do(t, tab, chromedp.Click(`[data-service="club-shell"] a`), chromedp.WaitVisible(`#seen [role="alert"]`),
		press("Pin what it shows now"),
		chromedp.WaitVisible(`[data-service="club-shell"][data-state="reachable"]`))
}

func TestTheConsoleReviewsASiteAndListsVantagePoints(t *testing.T) {
	t.Parallel()
	hold(t, "CLI-05")
	tab := signedIn(t)
	do(t, tab, chromedp.WaitVisible(`[data-site="CLI-05"]`), chromedp.Navigate(running.URL+"/sites/CLI-05"),
		chromedp.WaitVisible(`input[name="consent"]`),
		chromedp.SendKeys(`input[name="consent"]`, "Practice manager, by phone"), pressed(`@id="exposure"`, "Review"),
		chromedp.WaitVisible(`[data-advice="3389"]`))
	await(t, tab, contains(`[data-advice="3389"]`, "remote desktop on the open internet"))
	do(t, tab, pressed(`@id="exposure"`, "Review"))
	await(t, tab, contains(`#exposure [role="alert"]`, "within the last hour"))
	do(t, tab, chromedp.Navigate(running.URL+"/vantages"), chromedp.WaitVisible(`[data-vantage="harbour"][data-state="working"]`),
		chromedp.SendKeys(`input[name="vantage"]`, "pier"), pressed(`@id="vantages"`, "Invite"),
		chromedp.WaitVisible(`[data-vantage="pier"][data-state="invited"]`))
	await(t, tab, contains(`[role="alert"]`, "inkpost vantage run"))
	require.NoError(t, owner.RemoveVantage(t.Context(), "pier"))
}
