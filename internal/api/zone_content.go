package api

import (
	"net/http"
	"strconv"

	"github.com/labstack/echo/v5"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/store"
)

func (a *api) zoneRecords(c *echo.Context, _ principal) error {
	list, err := a.engine().ZoneRecords(c.Param("apex"))
	return ok(c, http.StatusOK, list, err)
}

func (a *api) addZoneRecord(c *echo.Context, _ principal) error {
	var in contract.RecordInput
	if err := decode(c, &in); err != nil {
		return err
	}
	r, err := a.engine().AddZoneRecord(c.Request().Context(), c.Param("apex"), in)
	return ok(c, http.StatusCreated, r, err)
}

func (a *api) removeZoneRecord(c *echo.Context, _ principal) error {
	id, err := strconv.ParseInt(c.Param("id"), 10, 64)
	if err != nil {
		return store.Missing{Kind: "record", Name: c.Param("id")}
	}
	return done(c, a.engine().RemoveZoneRecord(c.Request().Context(), c.Param("apex"), id))
}

func (a *api) aliases(c *echo.Context, _ principal) error {
	return c.JSON(http.StatusOK, a.engine().Aliases(c.Request().Context()))
}

func (a *api) addAlias(c *echo.Context, _ principal) error {
	var in contract.AliasInput
	if err := decode(c, &in); err != nil {
		return err
	}
	alias, err := a.engine().AddAlias(c.Request().Context(), in)
	return ok(c, http.StatusCreated, alias, err)
}

func (a *api) alias(c *echo.Context, _ principal) error {
	alias, err := a.engine().Alias(c.Request().Context(), c.Param("name"))
	return ok(c, http.StatusOK, alias, err)
}

func (a *api) removeAlias(c *echo.Context, _ principal) error {
	return done(c, a.engine().RemoveAlias(c.Request().Context(), c.Param("name")))
}

func (a *api) signingKeys(c *echo.Context, _ principal) error {
	list, err := a.engine().SigningKeys(c.Request().Context())
	return ok(c, http.StatusOK, list, err)
}

func (a *api) addSigningKey(c *echo.Context, _ principal) error {
	var in contract.SigningKeyInput
	if err := decode(c, &in); err != nil {
		return err
	}
	k, err := a.engine().AddSigningKey(c.Request().Context(), in)
	return ok(c, http.StatusCreated, k, err)
}

func (a *api) allowSigningKey(c *echo.Context, _ principal) error {
	var in contract.Allowance
	if err := decode(c, &in); err != nil {
		return err
	}
	return done(c, a.engine().AllowSigningKey(c.Request().Context(), c.Param("name"), in.MayAnnounce))
}

func (a *api) removeSigningKey(c *echo.Context, _ principal) error {
	return done(c, a.engine().RemoveSigningKey(c.Request().Context(), c.Param("name")))
}
