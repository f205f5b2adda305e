package api

import (
	"net/http"

	"github.com/labstack/echo/v5"
)

func (a *api) why(c *echo.Context, _ principal) error {
	out, err := a.engine().Why(c.Param("code"))
	return ok(c, http.StatusOK, out, err)
}

func (a *api) causes(c *echo.Context, _ principal) error {
	return ok(c, http.StatusOK, a.engine().Causes(), nil)
}

func (a *api) cause(c *echo.Context, _ principal) error {
	out, err := a.engine().Cause(c.Param("cause"))
	return ok(c, http.StatusOK, out, err)
}

func (a *api) accuracy(c *echo.Context, _ principal) error {
	out, err := a.engine().Accuracy(c.Request().Context())
	return ok(c, http.StatusOK, out, err)
}
