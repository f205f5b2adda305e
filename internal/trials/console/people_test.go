package console_test

import (
	"context"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/webauthn"
	"github.com/chromedp/chromedp"
	"github.com/pquerna/otp/totp"
	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/team"
)

// field is the input of a label.
func field(label string) string {
	return `//label[normalize-space()="` + label + `" or normalize-space()="` + label + ` *"]/..//input`
}

// TestSomebodyIsInvitedAndSeesTheirSites goes through the console of an owner, and then of whoever they invited.
func TestSomebodyIsInvitedAndSeesTheirSites(t *testing.T) {
	t.Parallel()
	tab := signedIn(t)
	t.Cleanup(func() { _ = owner.RemovePerson(context.Background(), "night desk") })
	do(t, tab, chromedp.Navigate(running.URL+"/people"), chromedp.WaitVisible(`[data-line="dispatch"]`), pressed(`@id="people"`,
		"Invite somebody"),
		chromedp.SendKeys(field("Name"), "night desk"), chromedp.SendKeys(field("Tags of the sites that they see"), "Harbour"),
		pressed(`@role="dialog"`, "Save"), chromedp.WaitVisible(`[data-invited="night desk"]`))
	text, err := chromedp.Run(tab, chromedp.Text(`[data-invited="night desk"]`))
	require.NoError(t, err)
	link := text[strings.Index(text, "http"):]
	await(t, tab, contains(`#invitations`, "technician, sites tagged harbour, invited by owner"))

	theirs := browser(t)
	do(t, theirs, chromedp.EmulateViewport(390, 844), chromedp.Navigate(strings.TrimSpace(link)),
		chromedp.WaitVisible(`input[name="new-password"]`),
		chromedp.SendKeys(`input[name="new-password"]`, "kettle123456\r"))
	await(t, theirs, contains(`[role="alert"]`, "is guessed soon"))
	do(t, theirs, chromedp.Navigate("about:blank"), chromedp.Navigate(strings.TrimSpace(link)),
		chromedp.WaitVisible(`input[name="new-password"]`),
		chromedp.SendKeys(`input[name="new-password"]`, password+"\r"), chromedp.WaitVisible(`[data-site="KET-07"]`))
	await(t, theirs, `!document.querySelector('[data-site="CLI-05"]')`)
	do(t, theirs, chromedp.Navigate(running.URL+"/sites/CLI-05"))
	await(t, theirs, contains(`[role="alert"]`, `there is no site "CLI-05"`))
	do(t, theirs, chromedp.Navigate(running.URL+"/people"))
	await(t, theirs, contains(`#people`, "dispatch"))
	await(t, theirs, `!document.querySelector('[aria-label="Edit dispatch"]') && document.documentElement.scrollWidth <= 390`)

	role := team.Viewer
	_, err = owner.EditPerson(t.Context(), "night desk", contract.PersonEdit{Role: &role})
	require.NoError(t, err)
	do(t, theirs, chromedp.Navigate(running.URL+"/sites/KET-07"), chromedp.WaitVisible(`#changes`))
	await(t, theirs, `!document.querySelector('[aria-label^="Remove "]')`)
	do(t, tab, chromedp.Navigate(running.URL+"/audit?kind=people"))
	await(t, tab, contains(`[data-act]`, "role: technician viewer"))
	require.NoError(t, owner.RemovePerson(t.Context(), "night desk"))
	do(t, theirs, chromedp.Navigate(running.URL+"/account"), chromedp.WaitVisible(`input[name="password"]`))
}

// TestASecondFactorIsSetUpInTheConsole sets up an authenticator and a passkey, and signs in with each.
func TestASecondFactorIsSetUpInTheConsole(t *testing.T) {
	t.Parallel()
	inv, err := owner.InvitePerson(t.Context(), contract.PersonInvitationInput{Name: "keeper", Role: team.Viewer})
	require.NoError(t, err)
	_, err = owner.Accept(t.Context(), inv.Code, password)
	require.NoError(t, err)
	t.Cleanup(func() { _ = owner.RemovePerson(context.Background(), "keeper") })
	byName := strings.Replace(running.URL, "127.0.0.1", "localhost", 1) // passkeys belong to names
	tab := browser(t)
	_, err = chromedp.Run(tab, func(ctx context.Context, _ *chromedp.Target) (v chromedp.Void, err error) {
		if _, err = chromedp.Call(ctx, webauthn.Enable, webauthn.EnableParams{}); err != nil {
			return v, err
		}
		_, err = chromedp.Call(ctx, webauthn.AddVirtualAuthenticator, webauthn.AddVirtualAuthenticatorParams{
			Options: &webauthn.VirtualAuthenticatorOptions{Protocol: webauthn.AuthenticatorProtocolCtap2,
				Transport: webauthn.AuthenticatorTransportInternal, HasResidentKey: true, HasUserVerification: true, IsUserVerified: true,
				AutomaticPresenceSimulation: true}})
		return v, err
	})
	require.NoError(t, err)
	do(t, tab, chromedp.Navigate(byName), chromedp.WaitVisible(`input[name="password"]`), chromedp.SendKeys(`input[name="name"]`, "keeper"),
		chromedp.SendKeys(`input[name="password"]`, password+"\r"), chromedp.WaitVisible(`[data-site="KET-07"]`),
		chromedp.Navigate(byName+"/account"), pressed(`@id="second"`, "Set up an authenticator"), chromedp.WaitVisible(`[data-secret]`))
	secret, err := chromedp.Run(tab, chromedp.Text(`[data-secret]`))
	require.NoError(t, err)
	code, err := totp.GenerateCode(strings.TrimSpace(secret), time.Now())
	require.NoError(t, err)
	do(t, tab, chromedp.SendKeys(field("Code that it shows"), code), chromedp.SendKeys(field("Your password, to confirm"), password+"\r"),
		chromedp.WaitVisible(`[data-codes]`))
	codes, err := chromedp.Run(tab, chromedp.Text(`[data-codes]`))
	require.NoError(t, err)
	do(t, tab, pressed(`@id="second"`, "Add a passkey"), chromedp.SendKeys(field("Where it is"), "keeper's phone"),
		chromedp.SendKeys(field("Your password, to confirm"), password+"\r"))
	await(t, tab, contains(`[data-passkey]`, "keeper's phone"))

	do(t, tab, pressed(`@id="root"`, "Sign out"), chromedp.WaitVisible(`input[name="password"]`), chromedp.SendKeys(`input[name="name"]`,
		"keeper"),
		chromedp.SendKeys(`input[name="password"]`, password+"\r"), chromedp.WaitVisible(`input[name="code"]`),
		chromedp.SendKeys(`input[name="code"]`, strings.Fields(codes)[0]+"\r"), chromedp.WaitVisible(`[data-site="KET-07"]`),
		pressed(`@id="root"`, "Sign out"), chromedp.WaitVisible(`input[name="password"]`), pressed(`@id="root"`, "Sign in with a passkey"),
		chromedp.WaitVisible(`[data-site="KET-07"]`), chromedp.Navigate(byName+"/account"))
	await(t, tab, contains(`[data-passkey]`, "last used"))
	await(t, tab, contains(`#second`, "9 recovery codes are left"))
	answer := passkeyAnswer(t, tab)
	for i, host := range []string{"post.example", strings.TrimPrefix(byName, "http://")} { // each is used up by the first try
		require.Equal(t, http.StatusUnauthorized, answered(t, host, answer), "%d: given for another address, or used before", i)
	}
	require.Equal(t, http.StatusOK, answered(t, strings.TrimPrefix(byName, "http://"), passkeyAnswer(t, tab)))
	do(t, tab, chromedp.Navigate(running.URL), chromedp.WaitVisible(`input[name="password"]`))
	await(t, tab, `![...document.querySelectorAll('button')].some(b => b.textContent.includes('passkey'))`)
}

// passkeyAnswer has the authenticator of a tab answer a ceremony of its page, and keeps the answer from the server.
func passkeyAnswer(t *testing.T, tab context.Context) string {
	t.Helper()
	do(t, tab, ran(`window.passkeyAnswer = undefined; (async () => {
		const { handle, options } = await (await fetch('/api/v1/session/passkey/ceremony', { method: 'POST' })).json()
		const publicKey = PublicKeyCredential.parseRequestOptionsFromJSON(options.publicKey)
		const shown = await navigator.credentials.get({ publicKey })
		window.passkeyAnswer = JSON.stringify({ handle, answer: shown.toJSON() })
	})()`))
	await(t, tab, `window.passkeyAnswer !== undefined`)
	answer, err := chromedp.Run(tab, chromedp.Evaluate[string](`window.passkeyAnswer`))
	require.NoError(t, err)
	return answer
}

// answered gives an answer to the server, as the console at a host would.
func answered(t *testing.T, host, answer string) int {
	t.Helper()
	req, err := http.NewRequestWithContext(t.Context(), http.MethodPost, running.URL+"/api/v1/session/passkey", strings.NewReader(answer))
	require.NoError(t, err)
	req.Host = host
	req.Header.Set("Content-Type", "application/json")
	r, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer r.Body.Close()
	return r.StatusCode
}
