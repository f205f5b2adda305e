package console_test

import (
	"context"
	"testing"

	"github.com/chromedp/cdproto/emulation"
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

// What is printed is the page on white paper with the layout of a wide window, and nothing to press.
func TestPagesPrintWell(t *testing.T) {
	t.Parallel()
	tab := signedIn(t)
	do(t, tab, ran(`localStorage.setItem('inkpost.mode', 'night')`), chromedp.Navigate(running.URL+"/sites/KET-07"),
		chromedp.WaitVisible(`[data-ribbon="desk-shell"]`))
	await(t, tab, `getComputedStyle(document.querySelector('#services')).backgroundColor !== 'rgb(255, 255, 255)'`)
	do(t, tab, chromedp.EmulateViewport(794, 1123), printed(true))
	await(t, tab, `getComputedStyle(document.querySelector('#services')).backgroundColor === 'rgb(255, 255, 255)'`)
	await(t, tab, `[...document.querySelectorAll('button:not(.MuiLink-root), header, input')].every(e => e.offsetParent === null)`)
	await(t, tab, `(() => { // the stations of a path stand beside each other
		const tops = [...document.querySelectorAll('[data-service] [data-hop]')].slice(0, 7).map(e =>
			Math.round(e.getBoundingClientRect().top))
		return tops.length === 7 && new Set(tops).size === 1
	})()`)
	do(t, tab, printed(false))
	await(t, tab, `document.querySelector('header').offsetParent !== null`)
}

// printed has the page be as it is on paper, or on the screen again.
func printed(on bool) chromedp.Action[chromedp.Void] {
	media := emulation.SetEmulatedMediaParams{}
	if on {
		media.Media = "print"
	}
	return func(ctx context.Context, _ *chromedp.Target) (v chromedp.Void, err error) {
		_, err = chromedp.Call(ctx, emulation.SetEmulatedMedia, media)
		return v, err
	}
}
