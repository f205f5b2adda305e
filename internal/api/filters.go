package api

import (
	"net/http"

	"github.com/labstack/echo/v5"

	"inkpost.example/inkpost/internal/contract"
)

// filterRoutes lists the endpoints of the filters that somebody keeps.
func (a *api) filterRoutes() []route {
	return []route{
		{method: "GET", path: base + "/site-filters", summary: "List one's own filters of the list of sites", who: person,
			out: []contract.SiteFilter{}, serve: a.siteFilters},
		{method: "POST", path: base + "/site-filters", summary: "Keep a filter of the list of sites", who: person,
			in: contract.SiteFilterInput{}, out: contract.SiteFilter{}, status: http.StatusCreated, serve: a.keepSiteFilter},
		{method: "DELETE", path: base + "/site-filters/:id", summary: "Drop a filter", who: person, status: http.StatusNoContent,
			serve: a.dropSiteFilter},
	}
}

func (a *api) siteFilters(c *echo.Context, p principal) error {
	list, err := a.engine().Access.Filters.Of(c.Request().Context(), p.personID)
	out := []contract.SiteFilter{}
	for _, f := range list {
		out = append(out, contract.SiteFilter(f))
	}
	return ok(c, http.StatusOK, out, err)
}

func (a *api) keepSiteFilter(c *echo.Context, p principal) error {
	var in contract.SiteFilterInput
	if err := decode(c, &in); err != nil {
		return err
	}
	f, err := a.engine().Access.Filters.Keep(c.Request().Context(), p.personID, in.Query)
	return ok(c, http.StatusCreated, contract.SiteFilter(f), err)
}

func (a *api) dropSiteFilter(c *echo.Context, p principal) error {
	id, err := numbered(c, "filter")
	if err != nil {
		return err
	}
	return done(c, a.engine().Access.Filters.Drop(c.Request().Context(), p.personID, id))
}
