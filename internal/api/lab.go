package api

import (
	"net/http"

	"github.com/labstack/echo/v5"

	"inkpost.example/inkpost/internal/contract"
)

func (a *api) world(c *echo.Context, _ principal) error {
	return c.JSON(http.StatusOK, a.lab.World())
}

func (a *api) renumber(c *echo.Context, _ principal) error {
	r, err := a.lab.Renumber(c.Param("code"), c.Param("label"))
	return ok(c, http.StatusOK, r, err)
}

func (a *api) mend(c *echo.Context, _ principal) error {
	mended, err := a.lab.Mend(c.Param("code"))
	return ok(c, http.StatusOK, contract.Mending{Mended: mended}, err)
}

func (a *api) labPrimary(running bool) func(*echo.Context, principal) error {
	return func(c *echo.Context, _ principal) error { return done(c, a.lab.SetPrimary(running)) }
}

func (a *api) labTaken(c *echo.Context, _ principal) error {
	return done(c, a.lab.SetTaken(c.Param("name"), c.Param("address")))
}

func (a *api) labProvider(running bool) func(*echo.Context, principal) error {
	return func(c *echo.Context, _ principal) error { return done(c, a.lab.SetProvider(c.Param("name"), running)) }
}

func (a *api) labService(running bool) func(*echo.Context, principal) error {
	return func(c *echo.Context, _ principal) error {
		return done(c, a.lab.SetService(c.Param("code"), c.Param("name"), running))
	}
}

func (a *api) labAwake(awake bool) func(*echo.Context, principal) error {
	return func(c *echo.Context, _ principal) error {
		return done(c, a.lab.SetAwake(c.Param("code"), c.Param("name"), awake))
	}
}

func (a *api) labRestart(c *echo.Context, _ principal) error {
	return done(c, a.lab.RestartMachine(c.Param("code")))
}

func (a *api) labForwardTo(c *echo.Context, _ principal) error {
	return done(c, a.lab.SetForwardTo(c.Param("code"), c.Param("name"), c.Param("to")))
}

func (a *api) labForward(present bool) func(*echo.Context, principal) error {
	return func(c *echo.Context, _ principal) error {
		return done(c, a.lab.SetForward(c.Param("code"), c.Param("name"), present))
	}
}
