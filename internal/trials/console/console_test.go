// Package console_test is the console in headless Chromium, on the whole demo.
package console_test

import (
	"context"
	"fmt"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/demo"
	"inkpost.example/inkpost/internal/testbed/chromium"
	"inkpost.example/inkpost/internal/testbed/isles"
)

var (
	running *demo.Demo
	owner   *client.Client
)

const password = "short-slipway-kettle" // begins with one that is too short

// shared is a tab of the one browser that all tests share.
var shared context.Context

func TestMain(m *testing.M) {
	var end func()
	var err error
	if shared, end, err = chromium.Start(context.Background()); err != nil {
		panic(err)
	}
	isles.Main(m, &running, &owner, end)
}

// browser opens a tab that shares nothing with others but the browser.
func browser(t *testing.T) context.Context {
	t.Helper()
	tab, cancel := chromedp.NewContext(shared, chromedp.WithNewBrowserContext())
	t.Cleanup(cancel)
	require.NoError(t, chromedp.Do(tab, chromedp.EmulateViewport(1280, 800), chromedp.Navigate(running.URL)))
	return tab
}

func do(t *testing.T, tab context.Context, steps ...chromedp.Action[chromedp.Void]) {
	t.Helper()
	bounded, cancel := context.WithTimeout(tab, isles.Wide)
	defer cancel()
	err := chromedp.Do(bounded, steps...)
	if err != nil {
		text, _ := chromedp.Run(tab, chromedp.Evaluate[string](`document.location.href + "\n" + document.body.innerText`))
		require.NoError(t, err, "the page says:\n%s", text)
	}
}

// await waits until an expression is true in the page.
func await(t *testing.T, tab context.Context, expression string) {
	t.Helper()
	bounded, cancel := context.WithTimeout(tab, isles.Wide)
	defer cancel()
	_, err := chromedp.Run(bounded, chromedp.Poll[bool](expression, chromedp.WithPollingInterval(50*time.Millisecond)))
	if err != nil {
		text, _ := chromedp.Run(tab, chromedp.Evaluate[string](`document.body.innerText`))
		require.NoError(t, err, "waiting for %s; the page says:\n%s", expression, text)
	}
}

func contains(selector, text string) string {
	return fmt.Sprintf(`[...document.querySelectorAll(%q)].some(e => e.textContent.includes(%q))`, selector, text)
}

// held are the parts of the demo that a test has for itself: sites by their codes, and "quay", the names on the remote primary.
var held sync.Map

// hold waits until no other test has any of some parts of the demo, and keeps them until the test has ended. A test calls it once.
func hold(t *testing.T, parts ...string) {
	t.Helper()
	for _, part := range slices.Sorted(slices.Values(parts)) {
		mu, _ := held.LoadOrStore(part, &sync.Mutex{})
		mu.(*sync.Mutex).Lock()
		t.Cleanup(mu.(*sync.Mutex).Unlock)
	}
}

// first makes sure that one test replaces the one-time password.
var first sync.Mutex

// signedIn signs in as the owner, whose one-time password is replaced on the way.
func signedIn(t *testing.T) context.Context {
	t.Helper()
	tab := browser(t)
	first.Lock()
	defer first.Unlock()
	visit, err := owner.SignIn(t.Context(), running.Owner, password)
	if client.IsStatus(err, 401) {
		do(t, tab, chromedp.WaitVisible(`input[name="password"]`),
			chromedp.SendKeys(`input[name="name"]`, running.Owner), chromedp.SendKeys(`input[name="password"]`, "not the password\r"))
		await(t, tab, contains(`[role="alert"]`, "wrong name or password"))
		do(t, tab, chromedp.Navigate(running.URL), chromedp.WaitVisible(`input[name="password"]`),
			chromedp.SendKeys(`input[name="name"]`, running.Owner), chromedp.SendKeys(`input[name="password"]`, running.Password+"\r"),
			chromedp.WaitVisible(`input[name="new-password"]`), chromedp.SendKeys(`input[name="new-password"]`, "short\r"))
		await(t, tab, contains(`[role="alert"]`, "10 to 200 are allowed"))
		do(t, tab, chromedp.SendKeys(`input[name="new-password"]`, password[len("short"):]+"\r"))
	} else {
		require.NoError(t, err)
		require.NoError(t, visit.SignOut(t.Context()))
		do(t, tab, chromedp.WaitVisible(`input[name="password"]`), chromedp.SendKeys(`input[name="name"]`, running.Owner),
			chromedp.SendKeys(`input[name="password"]`, password+"\r"))
	}
	do(t, tab, chromedp.WaitVisible(`[data-site="FER-11"]`))
	return tab
}

func TestTheConsoleShowsARenumberingLive(t *testing.T) {
	t.Parallel()
	hold(t, "FER-11", "SCH-04")
	tab := signedIn(t)
	isles.AwaitAllReachable(t, owner, "FER-11")
	before, err := owner.Link(t.Context(), "FER-11", "main")
	require.NoError(t, err)
	await(t, tab, contains(`[data-site="FER-11"]`, before.IPv4.String()))

	n, err := owner.Renumber(t.Context(), "FER-11", "main")
	require.NoError(t, err)
	await(t, tab, contains(`[data-site="FER-11"]`, n.New))
	await(t, tab, contains(`#moves`, n.Old+" → "+n.New))

	await(t, tab, `document.querySelector('[data-site="FER-11"] a').click() ?? true`)
	do(t, tab, chromedp.WaitVisible(`[data-service="kiosk-shell"]`))
	await(t, tab, contains(`[data-hop="address"]`, n.New))
	await(t, tab, contains(`#moves-main`, "confirmed +"))
	await(t, tab, `document.querySelectorAll('[data-ribbon="kiosk-shell"] rect[data-outcome]').length > 0`)

	// Where the provider shares no addresses, a missing forward is the router's.
	isles.AwaitAllReachable(t, owner, "SCH-04")
	do(t, tab, chromedp.Navigate(running.URL+"/sites/SCH-04"), chromedp.WaitVisible(`[data-service="files-page"]`))
	require.NoError(t, owner.SetLabForward(t.Context(), "SCH-04", "files-page", false))
	await(t, tab, `document.querySelector('[data-service="files-page"]').dataset.outcome === 'silent'`)
	await(t, tab, `document.querySelector('[data-service="files-page"] [data-hop="forward"]')?.dataset.verdict === 'broken'`)
	await(t, tab, contains(`[data-service="files-page"]`, "In the router, enter the forward: TCP, external 8443"))
	require.NoError(t, owner.SetLabForward(t.Context(), "SCH-04", "files-page", true))
	await(t, tab, `document.querySelector('[data-service="files-page"]').dataset.state === 'reachable'`)
}

func TestTheConsoleExplainsBadInput(t *testing.T) {
	t.Parallel()
	tab := signedIn(t)
	do(t, tab, press("Add a site"), chromedp.WaitVisible(`input[name="code"]`),
		chromedp.SendKeys(`input[name="code"]`, "!!"), chromedp.SendKeys(`input[name="name"]`, "Nowhere"), inDialog("Save"))
	await(t, tab, contains(`[role="dialog"]`, "is not a site code"))
	// The list moves under a pointer while other tests break sites: the address is gone to.
	do(t, tab, inDialog("Cancel"), chromedp.WaitNotPresent(`[role="dialog"]`), chromedp.Navigate(running.URL+"/sites/SCH-04"),
		chromedp.WaitVisible(`#record`),
		press("Add a service"), chromedp.WaitVisible(`input[name="external"]`),
		chromedp.SendKeys(`input[name="name"]`, "second"), chromedp.SendKeys(`input[name="external"]`, "8440-8450"), inDialog("Save"))
	await(t, tab, contains(`[role="dialog"]`, "overlaps 8443 of files-page"))
	sites, err := owner.Sites(t.Context())
	require.NoError(t, err)
	require.Len(t, sites, 10, "nothing was stored")
}

func TestTheConsoleOnAPhone(t *testing.T) {
	t.Parallel()
	tab := signedIn(t)
	do(t, tab, chromedp.EmulateViewport(390, 844), chromedp.Navigate(running.URL+"/sites/DIS-01"),
		chromedp.WaitVisible(`[data-service="still-page"]`))
	await(t, tab, `document.documentElement.scrollWidth <= 390`)
}
