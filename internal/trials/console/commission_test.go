package console_test

import (
	"context"
	"fmt"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
)

// stepIs waits until a step of the page stands as it should, with words of what is seen.
func stepIs(t *testing.T, tab context.Context, step, state, words string) {
	t.Helper()
	await(t, tab, contains(fmt.Sprintf(`[data-step=%q][data-state=%q]`, step, state), words))
}

// stepped presses a button of a step.
func stepped(step, button string) chromedp.Action[chromedp.Void] {
	return pressed(fmt.Sprintf(`@data-step=%q`, step), button)
}

const doorName = "door.quay.saltmarsh.example"

// TestANewServiceIsCommissionedOnAPhone goes from nothing to the sheet at 390 px, with a device that sleeps, a forward that leads
// elsewhere, a name that is somebody else's, and a moment without a connection.
func TestANewServiceIsCommissionedOnAPhone(t *testing.T) {
	t.Parallel()
	hold(t, "KET-07", "quay")
	ctx := t.Context()
	t.Cleanup(func() {
		ctx := context.Background()
		require.NoError(t, owner.SetLabTaken(ctx, doorName, ""))
		require.NoError(t, owner.RemoveHostname(ctx, doorName))
		require.NoError(t, owner.RemoveService(ctx, "KET-07", "door-view"))
		require.NoError(t, owner.RemoveDevice(ctx, "KET-07", "door-phone"))
		_, err := owner.Mend(ctx, "KET-07")
		require.NoError(t, err)
		_, _ = owner.EndCommissioning(ctx, "KET-07")
	})
	_, err := owner.AddHostname(ctx, contract.HostnameInput{Name: "bak-02.isles.saltmarsh.example", Site: "KET-07"})
	require.True(t, client.IsStatus(err, 409), "the name is taken")
	require.NoError(t, owner.SetLabTaken(ctx, doorName, "203.0.113.77"))
	_, err = owner.AddHostname(ctx, contract.HostnameInput{Name: doorName, Site: "KET-07"})
	require.NoError(t, err, "nobody here knows that it is taken")
	where := running.World.Where("KET-07", "door-phone")
	_, err = owner.AddDevice(ctx, "KET-07", contract.DeviceInput{Name: "door-phone", MAC: "02:00:5e:07:00:03", Address: where.String()})
	require.NoError(t, err)
	_, err = owner.AddService(ctx, "KET-07", contract.ServiceInput{Name: "door-view", Device: "door-phone", Kind: "http", External: "8090",
		Internal: "10080", Interval: 10})
	require.NoError(t, err)
	require.NoError(t, owner.SetLabAwake(ctx, "KET-07", "door-phone", false))

	tab := signedIn(t)
	do(t, tab, chromedp.WaitVisible(`[data-awaited="KET-07"]`), chromedp.EmulateViewport(390, 844),
		chromedp.Navigate(running.URL+"/sites/KET-07/commissioning"), pressed(`@id="commissioning"`, "Begin"))
	stepIs(t, tab, "on-record", "done", "ket-07.isles.saltmarsh.example")
	await(t, tab, `document.documentElement.scrollWidth <= 390`)

	do(t, tab, ran(`window.realFetch = fetch; window.fetch = (u, o) => o && o.method === 'POST' ? Promise.reject(new Error('cellar')) :
		realFetch(u, o)`),
		stepped("reserved", "It is done"))
	await(t, tab, contains(`[data-step="reserved"]`, "Kept on this device"))
	do(t, tab, ran(`window.fetch = window.realFetch; dispatchEvent(new Event('online'))`))
	stepIs(t, tab, "reserved", "done", "owner")
	d, err := owner.Device(ctx, "KET-07", "door-phone")
	require.NoError(t, err)
	require.True(t, d.Reserved)

	stepIs(t, tab, "inside", "failing", "the agent finds nobody at")
	require.NoError(t, owner.SetLabAwake(ctx, "KET-07", "door-phone", true))
	stepIs(t, tab, "inside", "done", "the agent sees it answer")
	stepIs(t, tab, "before", "done", "did not answer")
	require.NoError(t, owner.SetLabForwardTo(ctx, "KET-07", "door-view", "recorder-page"))
	await(t, tab, contains(`[data-step="forward"]`, "Internal address"))
	do(t, tab, stepped("forward", "It is done"))
	stepIs(t, tab, "forward", "failing", "and it is not so")
	await(t, tab, contains(`[data-step="forward"]`, "leads elsewhere"))
	require.NoError(t, owner.SetLabForward(ctx, "KET-07", "door-view", true))
	require.NoError(t, owner.SetLabForwardTo(ctx, "KET-07", "door-view", "door-view"))
	stepIs(t, tab, "outside", "done", "answered")
	stepIs(t, tab, "resolved", "failing", "does not take "+doorName)
	require.NoError(t, owner.SetLabTaken(ctx, doorName, ""))
	_, err = owner.PushZone(ctx, "quay.saltmarsh.example")
	require.NoError(t, err)
	stepIs(t, tab, "resolved", "done", "more resolve as well")
	stepIs(t, tab, "by-name", "done", "and it answers there")
	require.NoError(t, owner.RestartLabMachine(ctx, "KET-07"))
	stepIs(t, tab, "restart", "done", "its machine restarted")
	do(t, tab, stepped("rehearsal", "Pass over"), stepped("rehearsal", "Pass over"))
	stepIs(t, tab, "rehearsal", "skipped", "left out")
	do(t, tab, stepped("doors", "It is done"))
	stepIs(t, tab, "doors", "done", "said to be so")
	_, err = owner.KeepSheet(ctx, "KET-07", "hand-over")
	require.NoError(t, err)
	stepIs(t, tab, "sheet", "done", "kept by owner")
	do(t, tab, pressed(`@id="commissioning"`, "Finish"))
	await(t, tab, contains(`#commissioning`, "ended by owner"))
	s, err := owner.Sheet(ctx, "KET-07", 0)
	require.NoError(t, err)
	require.Len(t, s.Steps, 14)
}

// ran runs an expression in the page.
func ran(expression string) chromedp.Action[chromedp.Void] {
	run := chromedp.Evaluate[bool](expression + "; true")
	return func(ctx context.Context, target *chromedp.Target) (v chromedp.Void, err error) {
		_, err = run(ctx, target)
		return v, err
	}
}
