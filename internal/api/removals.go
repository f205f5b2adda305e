package api

import (
	"net/http"

	"github.com/labstack/echo/v5"

	"inkpost.example/inkpost/internal/contract"
)

// removalRoutes lists the endpoints of what was removed.
func (a *api) removalRoutes() []route {
	return []route{
		{method: "GET", path: base + "/removed", summary: "List what was removed and can be brought back", who: person,
			out: []contract.Removed{}, serve: a.removed},
		{method: "POST", path: base + "/removed/:id/restoration", summary: "Bring back what was removed, with its history", who: person,
			out: contract.Removed{}, serve: a.restore},
	}
}

func (a *api) removed(c *echo.Context, _ principal) error {
	list, err := a.engine().Removed(c.Request().Context())
	return ok(c, http.StatusOK, list, err)
}

func (a *api) restore(c *echo.Context, _ principal) error {
	id, err := numbered(c, "removal")
	if err != nil {
		return err
	}
	back, err := a.engine().Restore(c.Request().Context(), id)
	return ok(c, http.StatusOK, back, err)
}
