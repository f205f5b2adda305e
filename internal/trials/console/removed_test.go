package console_test

import (
	"testing"

	"github.com/chromedp/chromedp"
)

// TestWhatIsRemovedInTheConsoleIsBroughtBack removes a device behind its edit, and brings it back: at once, and later from the audit page.
func TestWhatIsRemovedInTheConsoleIsBroughtBack(t *testing.T) {
	t.Parallel()
	hold(t, "SCH-04")
	tab := signedIn(t)
	const line = `[data-line="service files-page"]`
	remove := func() {
		t.Helper()
		do(t, tab, chromedp.Navigate(running.URL+"/sites/SCH-04"), chromedp.WaitVisible(line))
		await(t, tab, `[...document.querySelectorAll('#record button')].every(b => b.textContent !== 'Remove')`)
		do(t, tab, chromedp.Click(`[aria-label="Edit service files-page"]`), chromedp.WaitVisible(`[role="dialog"]`), inDialog("Remove"))
		await(t, tab, contains(`[role="dialog"]`, "can be brought back for 30 days"))
		do(t, tab, inDialog("Remove"), chromedp.WaitNotPresent(line))
		await(t, tab, contains(`[data-undo]`, "service files-page is removed"))
	}
	remove()
	do(t, tab, press("Bring it back"), chromedp.WaitVisible(line))
	await(t, tab, contains(`[data-undo]`, "service files-page is back"))
	remove()
	do(t, tab, chromedp.Navigate(running.URL+"/audit"))
	await(t, tab, contains(`[data-removed="files-page"]`, "of SCH-04"))
	do(t, tab, chromedp.Click(`[aria-label="Bring it back: service files-page"]`), chromedp.WaitNotPresent(`[data-removed="files-page"]`))
	do(t, tab, chromedp.Navigate(running.URL+"/sites/SCH-04"), chromedp.WaitVisible(line))
}
