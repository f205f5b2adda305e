package console_test

import (
	"context"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/causes"
	"inkpost.example/inkpost/internal/testbed/isles"
)

func TestTheConsoleSaysWhyAndAsksWhatItWas(t *testing.T) {
	t.Parallel()
	hold(t, "DIS-01")
	tab := signedIn(t)
	isles.AwaitAllReachable(t, owner, "DIS-01")
	s, err := owner.Site(t.Context(), "DIS-01")
	require.NoError(t, err)
	name := s.Services[0].Name
	block := `[data-service="` + name + `"]`
	require.NoError(t, owner.SetLabForward(t.Context(), "DIS-01", name, false))
	t.Cleanup(func() { _, _ = owner.Mend(context.Background(), "DIS-01") })
	do(t, tab, chromedp.Navigate(running.URL+"/sites/DIS-01"), chromedp.WaitVisible(block+`[data-state="unreachable"]`))
	await(t, tab, contains(block, "What was seen"))
	do(t, tab, chromedp.Click(`//*[@data-weighed="`+name+`"]//button`),
		chromedp.WaitVisible(`[data-weighed="`+name+`"] [data-cause="forward-missing"]`))
	await(t, tab, contains(`[data-weighed="`+name+`"] [data-cause="device-firewall"]`, "excluded"))

	do(t, tab, chromedp.Click(block+` a[href="/causes/forward-missing"]`), chromedp.WaitVisible(`#cause`))
	await(t, tab, contains(`#cause`, "The router does not pass the port on to the device"))
	await(t, tab, contains(`#cause`, "In the router, enter the forward"))

	require.NoError(t, owner.SetLabForward(t.Context(), "DIS-01", name, true))
	require.Eventually(t, func() bool { // the newest that are over are asked about: the page is read again until ours is among them
		do(t, tab, chromedp.Navigate(running.URL+"/causes"), chromedp.WaitVisible(`#causes [data-cause="site-dark"]`))
		found, err := chromedp.Run(tab, chromedp.Evaluate[bool](contains(`[data-judge]`, "DIS-01")))
		return err == nil && found
	}, isles.Wide, 300*time.Millisecond)
	do(t, tab,
		chromedp.Click(`//*[@data-judge][.//a[normalize-space()="DIS-01"]]//button[normalize-space()="It was that: forward-missing"]`))
	await(t, tab, contains(`#causes [data-cause="forward-missing"]`, "right in 1 of 1"))
	list, err := owner.Accuracy(t.Context())
	require.NoError(t, err)
	for _, a := range list {
		require.Equal(t, a.Cause == causes.Slug("forward-missing"), a.Right == 1, "%+v", a)
	}
}
