package api

import (
	"crypto/rand"
	"errors"
	"net/http"
	"net/url"
	"sync"
	"time"

	"github.com/labstack/echo/v5"

	"inkpost.example/inkpost/internal/access"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/wire/openid"
)

const (
	askCookie = "inkpost_ask" // binds a question to the browser that it was put by
	askLife   = 5 * time.Minute
	// maxAsks bounds memory: one more takes the place of any.
	maxAsks = 1000
)

// asks are the questions that browsers took to the provider. Each is answered once.
type asks struct {
	mu    sync.Mutex
	known map[string]asked
}

type asked struct {
	openid.Ask
	began time.Time
}

func (a *asks) add(handle string, one asked) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.known == nil {
		a.known = map[string]asked{}
	}
	for h, x := range a.known {
		if len(a.known) >= maxAsks || one.began.Sub(x.began) > askLife {
			delete(a.known, h)
		}
	}
	a.known[handle] = one
}

func (a *asks) take(handle string, now time.Time) (asked, bool) {
	a.mu.Lock()
	defer a.mu.Unlock()
	one, ok := a.known[handle]
	delete(a.known, handle)
	return one, ok && now.Sub(one.began) < askLife
}

// elsewhereRoutes lists the endpoints of signing in at a provider.
func (a *api) elsewhereRoutes() []route {
	at := base + "/session"
	return []route{
		{method: "GET", path: at + "/ways", summary: "How one signs in here", out: contract.SignInWays{}, serve: a.ways},
		{method: "GET", path: at + "/provider", summary: "Sign in at the provider: send the browser there", limited: true, serve: a.leave},
		{method: "GET", path: at + "/provider/return", summary: "Sign in by what the provider says", limited: true, traced: true,
			serve: a.comeBack},
	}
}

func (a *api) ways(c *echo.Context, _ principal) error {
	out := contract.SignInWays{}
	if a.provider != nil {
		out.Provider = a.provider.Title()
	}
	return c.JSON(http.StatusOK, out)
}

var errNoProvider = problemOf(http.StatusNotFound, "no-provider",
	"people do not sign in at a provider here: serve --openid-issuer is not set")

func (a *api) returnTo(c *echo.Context) string {
	return a.origin(c) + base + "/session/provider/return"
}

func (a *api) leave(c *echo.Context, _ principal) error {
	if a.provider == nil {
		return errNoProvider
	}
	ask, err := a.provider.Begin(c.Request().Context(), a.returnTo(c), rand.Text(), rand.Text())
	if err != nil {
		return a.providerTrouble(err)
	}
	handle := rand.Text()
	a.asks.add(handle, asked{ask, time.Now()})
	a.askedBy(c, handle, int(askLife.Seconds()))
	return c.Redirect(http.StatusFound, ask.URL)
}

// askedBy keeps in the browser which question it took along: a stranger's answer is for a stranger's browser.
func (a *api) askedBy(c *echo.Context, handle string, life int) {
	c.SetCookie(&http.Cookie{Name: askCookie, Value: handle, Path: base + "/session/provider", MaxAge: life, HttpOnly: true,
		SameSite: http.SameSiteLaxMode, Secure: a.overTLS(c)})
}

func (a *api) providerTrouble(err error) error {
	a.log.Warn("signing in at the provider failed", "error", err)
	return problemOf(http.StatusBadGateway, "provider-trouble", "signing in at "+a.provider.Title()+" failed; the service's log says why")
}

// comeBack ends in the console, signed in or with the reason why not: a browser shows it to a person.
func (a *api) comeBack(c *echo.Context, _ principal) error {
	if a.provider == nil {
		return errNoProvider
	}
	token, err := a.answered(c)
	if err != nil {
		c.Set(failedKey, explain(err).Status)
		return c.Redirect(http.StatusFound, "/?"+url.Values{"refused": {explain(err).Detail}}.Encode())
	}
	a.setCookie(c, token, sessionLife)
	return c.Redirect(http.StatusFound, "/")
}

var errAnswer = problemOf(http.StatusUnauthorized, "provider-answer",
	"what the provider sent back does not belong to this browser, or came too late; begin again")

func (a *api) answered(c *echo.Context) (token string, err error) {
	cookie, err := c.Cookie(askCookie)
	if err != nil {
		return "", errAnswer
	}
	a.askedBy(c, "", -1)
	ask, ok := a.asks.take(cookie.Value, time.Now())
	if !ok || c.QueryParam("state") != ask.State {
		return "", errAnswer
	}
	if refused := c.QueryParam("error"); refused != "" {
		return "", problemOf(http.StatusUnauthorized, "provider-refused", a.provider.Title()+" did not let you in")
	}
	by, err := visitor(c)
	if err != nil {
		return "", err
	}
	who, err := a.provider.Finish(c.Request().Context(), a.returnTo(c), c.QueryParam("code"), ask.Ask)
	if errors.Is(err, openid.ErrClaims) {
		return "", problemOf(http.StatusUnauthorized, "provider-answer", err.Error())
	}
	if err != nil {
		return "", a.providerTrouble(err)
	}
	named(c, who.Name)
	token, _, err = a.engine().Access.SignInElsewhere(c.Request().Context(), access.Elsewhere{Issuer: a.provider.Issuer(),
		Subject: who.Subject,
		Name:    who.Name, Roles: who.Roles, Tags: who.Tags}, by)
	return token, err
}
