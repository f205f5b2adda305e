package api

import (
	"net/http"

	"github.com/labstack/echo/v5"

	"inkpost.example/inkpost/internal/contract"
)

// pushRoutes lists the endpoints by which one's own browsers subscribe.
func (a *api) pushRoutes() []route {
	return []route{
		{method: "GET", path: base + "/push-key", summary: "The public key with which a browser subscribes", who: person,
			out:   contract.PushKey{},
			serve: a.pushKey},
		{method: "GET", path: base + "/push-browsers", summary: "List one's own browsers that are told by push", who: person,
			out: []contract.PushBrowser{}, serve: a.pushBrowsers},
		{method: "POST", path: base + "/push-browsers", summary: "Have a browser be told by push", who: person, in: contract.PushInput{},
			out: contract.PushBrowser{}, status: http.StatusCreated, serve: a.subscribe},
		{method: "DELETE", path: base + "/push-browsers/:id", summary: "Have a browser no longer be told", who: person,
			status: http.StatusNoContent, serve: a.unsubscribe},
	}
}

func (a *api) pushKey(c *echo.Context, _ principal) error {
	out, err := a.engine().PushKey(c.Request().Context())
	return ok(c, http.StatusOK, out, err)
}

func (a *api) pushBrowsers(c *echo.Context, p principal) error {
	list, err := a.engine().PushBrowsers(c.Request().Context(), p.name)
	return ok(c, http.StatusOK, list, err)
}

func (a *api) subscribe(c *echo.Context, p principal) error {
	var in contract.PushInput
	if err := decode(c, &in); err != nil {
		return err
	}
	out, err := a.engine().Subscribe(c.Request().Context(), p.personID, in)
	return ok(c, http.StatusCreated, out, err)
}

func (a *api) unsubscribe(c *echo.Context, p principal) error {
	id, err := numbered(c, "browser")
	if err != nil {
		return err
	}
	return done(c, a.engine().Unsubscribe(c.Request().Context(), p.personID, id))
}
