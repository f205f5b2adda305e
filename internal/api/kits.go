package api

import (
	"bytes"
	"net/http"

	"github.com/labstack/echo/v5"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/site"
)

func (a *api) kitRoutes() []route {
	return []route{
		{method: "GET", path: base + "/kits", summary: "List kits: sets of services for common equipment", who: person, out: []site.Kit{},
			serve: a.kits},
		{method: "POST", path: base + "/kits", summary: "Keep a kit of one's own, from its file (application/yaml)", who: person,
			out: site.Kit{}, status: http.StatusCreated, serve: a.importKit},
		{method: "GET", path: base + "/kits/:name", summary: "Show a kit", who: person, out: site.Kit{}, serve: a.kit},
		{method: "GET", path: base + "/kits/:name/file", summary: "A kit as its file (application/yaml)", who: person, serve: a.kitFile},
		{method: "DELETE", path: base + "/kits/:name", summary: "Remove a kit of one's own", who: person, status: http.StatusNoContent,
			serve: a.removeKit},
		{method: "POST", path: base + "/sites/:code/kits/:name", summary: "Put a device and its services on record by a kit", who: person,
			in: contract.KitUse{}, out: contract.Site{}, status: http.StatusCreated, serve: a.useKit},
	}
}

func (a *api) kits(c *echo.Context, _ principal) error {
	list, err := a.engine().Kits(c.Request().Context())
	return ok(c, http.StatusOK, list, err)
}

func (a *api) kit(c *echo.Context, _ principal) error {
	k, err := a.engine().Kit(c.Request().Context(), c.Param("name"))
	return ok(c, http.StatusOK, k, err)
}

func (a *api) kitFile(c *echo.Context, _ principal) error {
	var b bytes.Buffer
	if err := a.engine().ExportKit(c.Request().Context(), c.Param("name"), &b); err != nil {
		return err
	}
	return c.Blob(http.StatusOK, "application/yaml", b.Bytes())
}

func (a *api) importKit(c *echo.Context, p principal) error {
	k, err := a.engine().ImportKit(c.Request().Context(), c.Request().Body, p.name)
	return ok(c, http.StatusCreated, k, err)
}

func (a *api) removeKit(c *echo.Context, _ principal) error {
	return done(c, a.engine().RemoveKit(c.Request().Context(), c.Param("name")))
}

func (a *api) useKit(c *echo.Context, _ principal) error {
	var in contract.KitUse
	if err := decode(c, &in); err != nil {
		return err
	}
	s, err := a.engine().UseKit(c.Request().Context(), c.Param("code"), c.Param("name"), in)
	return ok(c, http.StatusCreated, s, err)
}
