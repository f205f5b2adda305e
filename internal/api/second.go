package api

import (
	"encoding/base64"
	"net"
	"net/http"
	"net/url"
	"strings"

	"github.com/labstack/echo/v5"
	"rsc.io/qr"

	"inkpost.example/inkpost/internal/access"
	"inkpost.example/inkpost/internal/contract"
)

// secondRoutes lists the endpoints of second factors.
func (a *api) secondRoutes() []route {
	at := base + "/session"
	return []route{
		{method: "GET", path: at + "/second", summary: "One's own second factors", who: signedIn, out: contract.Seconds{},
			serve: a.seconds},
		{method: "POST", path: at + "/totp/secret", summary: "A secret for an authenticator; nothing is kept yet", who: signedIn,
			out: contract.TOTPSecret{}, serve: a.newTOTP},
		{method: "PUT", path: at + "/totp", summary: "Keep the secret, once a code shows that the authenticator has it", who: signedIn,
			in: contract.TOTPInput{}, out: contract.RecoveryCodes{}, serve: a.keepTOTP},
		{method: "POST", path: at + "/totp/removal", summary: "Take one's authenticator away", who: signedIn, in: contract.Confirmation{},
			status: http.StatusNoContent, serve: a.dropTOTP},
		{method: "POST", path: at + "/recovery-codes", summary: "Other codes for when the authenticator is lost", who: signedIn,
			in: contract.Confirmation{}, out: contract.RecoveryCodes{}, serve: a.newCodes},
		{method: "POST", path: at + "/passkeys/ceremony", summary: "Begin to make a passkey of one's own", who: signedIn,
			in: contract.Confirmation{}, out: contract.Ceremony{}, serve: a.beginPasskey},
		{method: "POST", path: at + "/passkeys", summary: "Keep the passkey that an authenticator made", who: signedIn,
			in: contract.PasskeyInput{}, out: contract.RecoveryCodes{}, status: http.StatusCreated, serve: a.keepPasskey},
		{method: "POST", path: at + "/passkeys/:id/removal", summary: "Remove a passkey of one's own", who: signedIn,
			in: contract.Confirmation{}, status: http.StatusNoContent, serve: a.removePasskey},
		{method: "POST", path: at + "/passkey/ceremony", summary: "Begin to sign in with a passkey", limited: true,
			out:   contract.Ceremony{},
			serve: a.askPasskey},
		{method: "POST", path: at + "/passkey", summary: "Sign in with a passkey", limited: true, in: contract.PasskeyInput{},
			out: contract.Session{}, serve: a.signInByPasskey},
		{method: "GET", path: base + "/settings", summary: "What is set for the whole installation", who: person, out: contract.Settings{},
			serve: a.settings},
		{method: "PUT", path: base + "/settings", summary: "Set it", who: person, in: contract.Settings{}, out: contract.Settings{},
			serve: a.setSettings},
	}
}

// origin is that of the console that a browser has open: where it is reached by name, or else where the browser says that it is.
func (a *api) origin(c *echo.Context) string {
	if u, err := url.Parse(a.public); err == nil && u.Host != "" && net.ParseIP(u.Hostname()) == nil {
		return u.Scheme + "://" + u.Host
	}
	if a.overTLS(c) {
		return "https://" + c.Request().Host
	}
	return "http://" + c.Request().Host
}

func (a *api) seconds(c *echo.Context, p principal) error {
	s, err := a.engine().Access.Seconds(c.Request().Context(), *p.session)
	out := contract.Seconds{TOTP: s.TOTP, RecoveryCodes: s.Codes, Required: s.Required, Passkeys: []contract.Passkey{}}
	for _, k := range s.Passkeys {
		out.Passkeys = append(out.Passkeys, contract.Passkey{ID: k.ID, Label: k.Label, Created: k.Created.Time, Used: k.Used.Time})
	}
	return ok(c, http.StatusOK, out, err)
}

func (a *api) newTOTP(c *echo.Context, p principal) error {
	secret, uri := a.engine().Access.NewTOTP(p.name)
	code, err := qr.Encode(uri, qr.M)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, contract.TOTPSecret{Secret: secret, URL: uri,
		QR: "data:image/png;base64," + base64.StdEncoding.EncodeToString(code.PNG())})
}

// confirmed reads a document of which a part is the caller's password.
func confirmed[T any](c *echo.Context) (in T, by access.Visitor, err error) {
	if err = decode(c, &in); err == nil {
		by, err = visitor(c)
	}
	return in, by, err
}

func (a *api) keepTOTP(c *echo.Context, p principal) error {
	in, by, err := confirmed[contract.TOTPInput](c)
	if err != nil {
		return err
	}
	codes, err := a.engine().Access.KeepTOTP(c.Request().Context(), p.personID, in.Password, in.Secret, in.Code, by)
	return ok(c, http.StatusOK, contract.RecoveryCodes{Codes: codes}, err)
}

func (a *api) dropTOTP(c *echo.Context, p principal) error {
	in, by, err := confirmed[contract.Confirmation](c)
	if err == nil {
		err = a.engine().Access.DropTOTP(c.Request().Context(), p.personID, in.Password, by)
	}
	return done(c, err)
}

func (a *api) newCodes(c *echo.Context, p principal) error {
	in, by, err := confirmed[contract.Confirmation](c)
	if err != nil {
		return err
	}
	codes, err := a.engine().Access.NewRecoveryCodes(c.Request().Context(), p.personID, in.Password, by)
	return ok(c, http.StatusOK, contract.RecoveryCodes{Codes: codes}, err)
}

func (a *api) beginPasskey(c *echo.Context, p principal) error {
	in, by, err := confirmed[contract.Confirmation](c)
	if err != nil {
		return err
	}
	asked, err := a.engine().Access.BeginPasskey(c.Request().Context(), p.personID, in.Password, a.origin(c), by)
	return ok(c, http.StatusOK, contract.Ceremony(asked), err)
}

func (a *api) keepPasskey(c *echo.Context, p principal) error {
	var in contract.PasskeyInput
	if err := decode(c, &in); err != nil {
		return err
	}
	codes, err := a.engine().Access.KeepPasskey(c.Request().Context(), p.personID, in.Handle, strings.TrimSpace(in.Label), a.origin(c),
		in.Answer)
	return ok(c, http.StatusCreated, contract.RecoveryCodes{Codes: append([]string{}, codes...)}, err)
}

func (a *api) removePasskey(c *echo.Context, p principal) error {
	in, by, err := confirmed[contract.Confirmation](c)
	if err != nil {
		return err
	}
	id, err := numbered(c, "passkey")
	if err == nil {
		err = a.engine().Access.RemovePasskey(c.Request().Context(), p.personID, id, in.Password, by)
	}
	return done(c, err)
}

func (a *api) askPasskey(c *echo.Context, _ principal) error {
	asked, err := a.engine().Access.AskPasskey(a.origin(c))
	return ok(c, http.StatusOK, contract.Ceremony(asked), err)
}

func (a *api) signInByPasskey(c *echo.Context, _ principal) error {
	in, by, err := confirmed[contract.PasskeyInput](c)
	if err != nil {
		return err
	}
	token, s, err := a.engine().Access.SignInByPasskey(c.Request().Context(), in.Handle, a.origin(c), in.Answer, by)
	if err != nil {
		return err
	}
	named(c, s.Name)
	a.setCookie(c, token, sessionLife)
	return c.JSON(http.StatusOK, a.sessionDoc(s))
}

func (a *api) settings(c *echo.Context, _ principal) error {
	need, err := a.engine().Access.OwnersNeedSecond(c.Request().Context())
	return ok(c, http.StatusOK, contract.Settings{OwnersNeedSecond: need}, err)
}

func (a *api) setSettings(c *echo.Context, _ principal) error {
	var in contract.Settings
	if err := decode(c, &in); err != nil {
		return err
	}
	return ok(c, http.StatusOK, in, a.engine().Access.SetOwnersNeedSecond(c.Request().Context(), in.OwnersNeedSecond))
}
