package console_test

import (
	"testing"

	"github.com/chromedp/chromedp"
)

func TestTheInstallationIsLookedAtInTheConsole(t *testing.T) {
	t.Parallel()
	tab := signedIn(t)
	for _, size := range [][2]int64{{1280, 800}, {390, 844}} {
		do(t, tab, chromedp.EmulateViewport(size[0], size[1]), chromedp.Navigate(running.URL+"/settings"), chromedp.WaitVisible(`#checkup`),
			press("Look now"), chromedp.WaitVisible(`[data-looked]`))
		await(t, tab, contains(`[data-check="backup, newest"][data-standing="wrong"]`, "inkpost backup"))
		await(t, tab, `document.querySelector('[data-check="database, schema"]') === null`)
		do(t, tab, press("Show what is good"), chromedp.WaitVisible(`[data-check="database, schema"][data-standing="good"]`))
		await(t, tab, contains(`[data-check="port, names over UDP from harbour"]`, "answers"))
		await(t, tab, contains(`[data-check="zone, isles.saltmarsh.example delegation"]`, "as the zone itself says"))
		await(t, tab, `document.documentElement.scrollWidth <= innerWidth`)
	}
}
