package api

import (
	"net/http"
	"strconv"

	"github.com/labstack/echo/v5"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/store"
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

func (a *api) judgeFault(c *echo.Context, p principal) error {
	id, err := strconv.ParseInt(c.Param("id"), 10, 64)
	if err != nil {
		return store.Missing{Kind: "fault", Name: c.Param("id")}
	}
	var in contract.FaultJudgementInput
	if err := decode(c, &in); err != nil {
		return err
	}
	out, err := a.engine().JudgeFault(c.Request().Context(), id, in, p.name)
	return ok(c, http.StatusOK, out, err)
}

func (a *api) accuracy(c *echo.Context, _ principal) error {
	out, err := a.engine().Accuracy(c.Request().Context())
	return ok(c, http.StatusOK, out, err)
}
