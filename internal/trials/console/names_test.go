package console_test

import (
	"fmt"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"
)

func press(text string) chromedp.Action[chromedp.Void] {
	return chromedp.Click(fmt.Sprintf(`//button[normalize-space()=%q]`, text))
}

func inDialog(text string) chromedp.Action[chromedp.Void] {
	return chromedp.Click(fmt.Sprintf(`//div[@role="dialog"]//button[normalize-space()=%q]`, text))
}

func in(section, text string) chromedp.Action[chromedp.Void] {
	return chromedp.Click(fmt.Sprintf(`//section[@id=%q]//button[normalize-space()=%q]`, section, text))
}

func TestTheConsoleShowsWhatARemotePrimaryHasAndPushesIt(t *testing.T) {
	t.Parallel()
	hold(t, "FER-11", "quay")
	tab := signedIn(t)
	const quay = `[id="zone-quay.saltmarsh.example"]`
	do(t, tab, chromedp.Navigate(running.URL+"/names"), chromedp.WaitVisible(`[data-line="tickets.quay.saltmarsh.example"]`))
	await(t, tab, contains(quay, "all 4 taken"))
	await(t, tab, contains(`[data-line="kiosk.quay.saltmarsh.example"]`, "both give"))
	do(t, tab, in("zone-quay.saltmarsh.example", "What would change"))
	await(t, tab, contains(quay, "The primary is up to date."))

	require.NoError(t, owner.SetLabPrimary(t.Context(), false))
	_, err := owner.Renumber(t.Context(), "FER-11", "main")
	require.NoError(t, err)
	await(t, tab, contains(`[data-line="tickets.quay.saltmarsh.example"]`, "held"))
	await(t, tab, contains(quay, "nothing listens at its port"))
	do(t, tab, in("zone-quay.saltmarsh.example", "What would change"))
	await(t, tab, contains(quay, "could not be asked"))
	require.NoError(t, owner.SetLabPrimary(t.Context(), true))
	do(t, tab, in("zone-quay.saltmarsh.example", "Push now"))
	await(t, tab, contains(quay, "all 4 taken"))
	await(t, tab, `!document.querySelector('[data-line="tickets.quay.saltmarsh.example"]').textContent.includes('held')`)
}

func TestTheConsoleRecordsNamesOfAllKinds(t *testing.T) {
	t.Parallel()
	tab := signedIn(t)
	const section = "zone-isles.saltmarsh.example"
	do(t, tab, chromedp.Navigate(running.URL+"/names"), chromedp.WaitVisible(`[data-line="museum.isles.saltmarsh.example"]`),
		in(section, "Add an alias"), chromedp.WaitVisible(`input[name="name"]`),
		chromedp.SendKeys(`input[name="name"]`, "ket-07.isles.saltmarsh.example"))
	await(t, tab, contains(`[role="dialog"]`, "belongs to site KET-07 already"))
	do(t, tab, chromedp.SendKeys(`input[name="name"]`, "x"), press("Save"))
	await(t, tab, contains(`[role="dialog"]`, "is below none of the zones"))
	do(t, tab, press("Cancel"), chromedp.WaitNotPresent(`[role="dialog"]`),
		in(section, "Add a redirect"), chromedp.WaitVisible(`input[name="path"]`),
		chromedp.SendKeys(`input[name="name"]`, "möwe.isles.saltmarsh.example"))
	await(t, tab, contains(`[role="dialog"]`, "möwe.isles.saltmarsh.example is free in hosted zone"))
	do(t, tab, chromedp.SendKeys(`input[name="port"]`, "8081"), press("Save"), chromedp.WaitNotPresent(`[role="dialog"]`))
	await(t, tab, contains(`[data-line="xn--mwe-sna.isles.saltmarsh.example"]`, ":8081/"))
	do(t, tab, chromedp.Click(`[aria-label="Edit xn--mwe-sna.isles.saltmarsh.example"]`), chromedp.WaitVisible(`[role="dialog"]`),
		inDialog("Remove"), chromedp.WaitVisible(`//button[normalize-space()="Keep it"]`), inDialog("Remove"),
		chromedp.WaitNotPresent(`[data-line="xn--mwe-sna.isles.saltmarsh.example"]`))

	do(t, tab, in(section, "Add a record"), chromedp.WaitVisible(`input[name="data"]`),
		chromedp.SendKeys(`input[name="data"]`, `"seen at the pier"`), press("Save"), chromedp.WaitNotPresent(`[role="dialog"]`))
	await(t, tab, contains(`[id="`+section+`"]`, "seen at the pier"))
	do(t, tab, in("signing-keys", "Add a signing key"), chromedp.WaitVisible(`input[name="secret"]`),
		chromedp.SendKeys(`input[name="name"]`, "pier.saltmarsh.example"), press("Save"))
	await(t, tab, contains(`#signing-keys [role="alert"]`, "Secret of pier.saltmarsh.example"))
	require.NoError(t, owner.RemoveSigningKey(t.Context(), "pier.saltmarsh.example"))
	await(t, tab, `!document.querySelector('[data-line="pier.saltmarsh.example"]')`)
	do(t, tab, chromedp.EmulateViewport(390, 844))
	await(t, tab, `document.documentElement.scrollWidth <= 390`)
}

func TestTheConsoleEditsTheTimersOfAZone(t *testing.T) {
	t.Parallel()
	tab := signedIn(t)
	const zone = "isles.saltmarsh.example"
	before, err := owner.Zone(t.Context(), zone)
	require.NoError(t, err)
	do(t, tab, chromedp.Navigate(running.URL+"/names"), chromedp.WaitVisible(`[id="zone-`+zone+`"]`), in("zone-"+zone, "Edit"),
		chromedp.WaitVisible(`input[name="ttl_seconds"]`))
	await(t, tab, `!document.querySelector('input[name="refresh_seconds"]')`)
	do(t, tab, press("Show 6 more fields"), chromedp.WaitVisible(`input[name="refresh_seconds"]`),
		chromedp.SendKeys(`input[name="refresh_seconds"]`, "9999999999"), press("Save"))
	await(t, tab, `document.querySelector('input[name="refresh_seconds"]').getAttribute('aria-invalid') === 'true'`)
	same, err := owner.Zone(t.Context(), zone)
	require.NoError(t, err)
	require.Equal(t, before.Refresh, same.Refresh, "nothing is stored")

	do(t, tab, press("Cancel"), chromedp.WaitNotPresent(`[role="dialog"]`), in("zone-"+zone, "Edit"),
		chromedp.WaitVisible(`input[name="ttl_seconds"]`),
		press("Show 6 more fields"), chromedp.WaitVisible(`input[name="retry_seconds"]`),
		chromedp.SendKeys(`input[name="retry_seconds"]`, "0"), press("Save"), chromedp.WaitNotPresent(`[role="dialog"]`))
	after, err := owner.Zone(t.Context(), zone)
	require.NoError(t, err)
	require.Equal(t, before.Retry*10, after.Retry, "a nought was typed behind what stood there")
	require.Equal(t, before.Servers, after.Servers, "what was not touched stays")
	require.Greater(t, after.Serial, before.Serial)
}

func TestTheConsoleFiltersMovesAndPlansAChange(t *testing.T) {
	t.Parallel()
	hold(t, "RAD-06")
	tab := signedIn(t)
	do(t, tab, chromedp.Navigate(running.URL+"/moves?site=RAD-06"), chromedp.WaitVisible(`[data-move]`))
	await(t, tab, `[...document.querySelectorAll('#moves a[href^="/sites/"]')].every(e => e.textContent === 'RAD-06')`)
	await(t, tab, `document.querySelector('a[href^="/api/v1/moves"]').href.includes('format=csv') && `+
		`document.querySelector('a[href^="/api/v1/moves"]').href.includes('site=RAD-06')`)
	do(t, tab, chromedp.SendKeys(`input[name="address"]`, "198.51.100.1\r"))
	await(t, tab, contains(`#moves`, "No matching moves."))

	do(t, tab, chromedp.Navigate(running.URL+"/sites/RAD-06"), chromedp.WaitVisible(`#record`),
		chromedp.Click(`[aria-label="Router URL: link main"]`))
	await(t, tab, contains(`#record [role="alert"]`, "/announce/inkpost-"))
	do(t, tab, chromedp.Click(`[aria-label="Hold it here: rad-06.isles.saltmarsh.example"]`))
	await(t, tab, contains(`[data-line="rad-06.isles.saltmarsh.example"]`, "held at 127."))
	do(t, tab, chromedp.Click(`[aria-label="Release it: rad-06.isles.saltmarsh.example"]`))
	await(t, tab, contains(`[data-line="rad-06.isles.saltmarsh.example"]`, "follows the preferred link"))
	do(t, tab, press("Add a hostname"), chromedp.WaitVisible(`input[name="name"]`))
	await(t, tab, `document.querySelector('input[name="name"]').value === 'rad-06-2.isles.saltmarsh.example'`)
	do(t, tab, press("Cancel"), chromedp.WaitNotPresent(`[role="dialog"]`), chromedp.Click(`[aria-label="Plan a change: link main"]`),
		chromedp.WaitVisible(`input[name="change_at"]`), press("Save"), chromedp.WaitNotPresent(`[role="dialog"]`))
	l, err := owner.Link(t.Context(), "RAD-06", "main")
	require.NoError(t, err)
	require.True(t, l.ChangeAt.IsZero(), "an empty time plans nothing")
}

func TestTheConsoleShowsTheSiteFromInside(t *testing.T) {
	t.Parallel()
	hold(t, "OYS-03")
	tab := signedIn(t)
	do(t, tab, chromedp.Navigate(running.URL+"/sites/OYS-03"), chromedp.WaitVisible(`#site-side`))
	await(t, tab, contains(`[data-link="main"]`, "double NAT"))
	await(t, tab, contains(`[data-link="main"]`, "192.168.1.23"))
	await(t, tab, contains(`[data-link="main"]`, "bridge mode"))
	await(t, tab, contains(`[data-device="tanks"]`, "tank-page open"))
	do(t, tab, in("site-side", "Look now"), chromedp.SendKeys(`input[name="proof-port"]`, "45060"), in("site-side", "Prove udp"))
	await(t, tab, contains(`#site-side [role="alert"]`, "Proven: what is sent to"))
}
