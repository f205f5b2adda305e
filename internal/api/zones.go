package api

import (
	"bytes"
	"fmt"
	"net/http"

	"github.com/labstack/echo/v5"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/site"
)

// zoneText is the media type of zone files (RFC 4027).
const zoneText = "text/dns"

func (a *api) zonePushes(c *echo.Context, _ principal) error {
	list, err := a.engine().Pushes(c.Param("apex"))
	return ok(c, http.StatusOK, list, err)
}

func (a *api) pushZone(c *echo.Context, _ principal) error {
	list, err := a.engine().PushZone(c.Request().Context(), c.Param("apex"))
	return ok(c, http.StatusAccepted, list, err)
}

func (a *api) zoneDifferences(c *echo.Context, _ principal) error {
	list, err := a.engine().ZoneDifferences(c.Request().Context(), c.Param("apex"))
	return ok(c, http.StatusOK, list, err)
}

func (a *api) zoneFile(c *echo.Context, _ principal) error {
	var text bytes.Buffer
	if err := a.engine().ExportZone(c.Param("apex"), &text); err != nil {
		return err
	}
	c.Response().Header().Set("Content-Disposition", fmt.Sprintf("attachment; filename=%q", c.Param("apex")+".zone"))
	return c.Blob(http.StatusOK, zoneText, text.Bytes())
}

func (a *api) importZone(c *echo.Context, _ principal) error {
	var f site.Flaws
	replace, err := yes(c, "replace")
	f.Note("replace", err)
	dry, err := yes(c, "dry_run")
	f.Note("dry_run", err)
	servers, err := yes(c, "replace_servers")
	f.Note("replace_servers", err)
	if err := f.Err(); err != nil {
		return err
	}
	out, err := a.engine().ImportZone(c.Request().Context(), c.Param("apex"), c.Request().Body,
		contract.ZoneImportInput{Replace: replace, ReplaceServers: servers, DryRun: dry})
	return ok(c, http.StatusOK, out, err)
}

func (a *api) redirects(c *echo.Context, _ principal) error {
	return c.JSON(http.StatusOK, a.engine().Redirects(c.Request().Context()))
}

func (a *api) addRedirect(c *echo.Context, _ principal) error {
	var in contract.RedirectInput
	if err := decode(c, &in); err != nil {
		return err
	}
	r, err := a.engine().AddRedirect(c.Request().Context(), in)
	return ok(c, http.StatusCreated, r, err)
}

func (a *api) redirect(c *echo.Context, _ principal) error {
	r, err := a.engine().Redirect(c.Request().Context(), c.Param("name"))
	return ok(c, http.StatusOK, r, err)
}

func (a *api) editRedirect(c *echo.Context, _ principal) error {
	in, err := merge[contract.RedirectInput](c)
	if err != nil {
		return err
	}
	r, err := a.engine().EditRedirect(c.Request().Context(), c.Param("name"), in)
	return ok(c, http.StatusOK, r, err)
}

func (a *api) removeRedirect(c *echo.Context, _ principal) error {
	return done(c, a.engine().RemoveRedirect(c.Request().Context(), c.Param("name")))
}

func (a *api) holdHostname(c *echo.Context, _ principal) error {
	h, err := a.engine().HoldHostname(c.Request().Context(), c.Param("name"))
	return ok(c, http.StatusOK, h, err)
}

func (a *api) releaseHostname(c *echo.Context, _ principal) error {
	h, err := a.engine().ReleaseHostname(c.Request().Context(), c.Param("name"))
	return ok(c, http.StatusOK, h, err)
}

func (a *api) checkName(c *echo.Context, _ principal) error {
	return c.JSON(http.StatusOK, a.engine().CheckName(c.Request().Context(), c.QueryParam("name")))
}

func (a *api) suggestName(c *echo.Context, _ principal) error {
	check, err := a.engine().SuggestName(c.Request().Context(), c.Param("code"), c.QueryParam("zone"))
	return ok(c, http.StatusOK, check, err)
}
