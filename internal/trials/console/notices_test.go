package console_test

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/fault"
	"inkpost.example/inkpost/internal/core/notice"
	"inkpost.example/inkpost/internal/lab/mailsink"
	"inkpost.example/inkpost/internal/testbed/isles"
)

// A technician with a phone takes a fault up, and sees who was told of it.
func TestTheConsoleTellsTheStoryOfAFaultAndWhoWasTold(t *testing.T) {
	t.Parallel()
	hold(t, "BOA-09")
	tab := signedIn(t)
	// Of its own, as what dispatch and the technician are told of the other sites may be so much that the rest is put together.
	rule, err := owner.AddNoticeRule(t.Context(), notice.Rule{Person: "owner", Topic: notice.Faults, Scope: fault.Scope{Site: "BOA-09"}})
	require.NoError(t, err)
	t.Cleanup(func() { _ = owner.RemoveNoticeRule(context.Background(), rule.ID) })
	isles.AwaitAllReachable(t, owner, "BOA-09")
	require.NoError(t, owner.SetLabService(t.Context(), "BOA-09", "playback", false))
	t.Cleanup(func() { _, _ = owner.Mend(context.Background(), "BOA-09") }) // t.Context has ended by then
	var f contract.Fault
	require.Eventually(t, func() bool {
		list, err := owner.Faults(t.Context(), "BOA-09", true)
		if err == nil && len(list) > 0 {
			f = list[0]
		}
		return f.ID != 0
	}, isles.Wide, 200*time.Millisecond)
	do(t, tab, chromedp.EmulateViewport(390, 844), chromedp.Navigate(fmt.Sprintf("%s/faults/%d", running.URL, f.ID)),
		chromedp.WaitVisible(`#timeline [data-event="opened"]`),
		chromedp.Click(`//*[@id="fault"]//button[normalize-space()="It is for owner"]`),
		chromedp.WaitVisible(`#timeline [data-event="assigned"]`),
		chromedp.SendKeys(`//*[@id="fault"]//label[normalize-space()="Add a note"]/..//input`, "the key is with the harbour office"),
		chromedp.Click(`//*[@id="fault"]//button[normalize-space()="Keep the note"]`),
		chromedp.WaitVisible(`#timeline [data-event="noted"]`),
		chromedp.Click(`//*[@id="fault"]//button[normalize-space()="3 hours"]`))
	await(t, tab, contains(`#fault`, "planned work until"))
	await(t, tab, contains(`#timeline`, "owner: the key is with the harbour office"))
	await(t, tab, `document.documentElement.scrollWidth <= 390`)
	do(t, tab, chromedp.Click(`//*[@id="fault"]//button[normalize-space()="End it now"]`),
		chromedp.WaitVisible(`//*[@id="fault"]//button[normalize-space()="3 hours"]`))

	require.Eventually(t, func() bool {
		return slices.ContainsFunc(running.Mail.Kept(), func(m mailsink.Mail) bool {
			return strings.Contains(m.Header("Subject"), "BOA-09")
		})
	}, isles.Wide, 200*time.Millisecond, "the owner is told")
	do(t, tab, chromedp.Navigate(running.URL+"/notices"), chromedp.WaitVisible(`#log [data-notice]`))
	await(t, tab, contains(`#log`, "BOA-09"))
	await(t, tab, contains(`#rules`, "serious ones, when nobody knows of it after 30 min"))
	await(t, tab, `document.documentElement.scrollWidth <= 390`)
	do(t, tab, chromedp.Click(`[aria-label="Send a test: dispatch"]`), chromedp.WaitVisible(`[data-step="recipient"]`))
	await(t, tab, contains(`[role="dialog"]`, "It got there."))
}
