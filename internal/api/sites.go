package api

import (
	"net/http"
	"strconv"

	"github.com/labstack/echo/v5"

	"inkpost.example/inkpost/internal/contract"
)

func (a *api) sites(c *echo.Context, _ principal) error {
	q := contract.SiteQuery{Search: c.QueryParam("search"), Tag: c.QueryParam("tag"), Sort: c.QueryParam("sort"),
		Need: contract.Need(c.QueryParam("need"))}
	var err error
	if q.Limit, q.Offset, err = part(c); err != nil {
		return err
	}
	list, total, err := a.engine().Summaries(c.Request().Context(), q)
	c.Response().Header().Set(contract.TotalHeader, strconv.Itoa(total))
	return ok(c, http.StatusOK, list, err)
}

func (a *api) addSite(c *echo.Context, _ principal) error {
	var in contract.SiteInput
	if err := decode(c, &in); err != nil {
		return err
	}
	s, err := a.engine().AddSite(c.Request().Context(), in)
	return ok(c, http.StatusCreated, s, err)
}

func (a *api) site(c *echo.Context, _ principal) error {
	s, err := a.engine().Site(c.Request().Context(), c.Param("code"))
	return ok(c, http.StatusOK, s, err)
}

func (a *api) editSite(c *echo.Context, _ principal) error {
	in, err := merge[contract.SiteInput](c)
	if err != nil {
		return err
	}
	s, err := a.engine().EditSite(c.Request().Context(), c.Param("code"), in)
	return ok(c, http.StatusOK, s, err)
}

func (a *api) removeSite(c *echo.Context, _ principal) error {
	return done(c, a.engine().RemoveSite(c.Request().Context(), c.Param("code")))
}

func (a *api) links(c *echo.Context, _ principal) error {
	list, err := a.engine().Links(c.Param("code"))
	return ok(c, http.StatusOK, list, err)
}

func (a *api) addLink(c *echo.Context, _ principal) error {
	var in contract.LinkInput
	if err := decode(c, &in); err != nil {
		return err
	}
	l, err := a.engine().AddLink(c.Request().Context(), c.Param("code"), in)
	return ok(c, http.StatusCreated, l, err)
}

func (a *api) link(c *echo.Context, _ principal) error {
	l, err := a.engine().Link(c.Param("code"), c.Param("label"))
	return ok(c, http.StatusOK, l, err)
}

func (a *api) editLink(c *echo.Context, _ principal) error {
	in, err := merge[contract.LinkInput](c)
	if err != nil {
		return err
	}
	l, err := a.engine().EditLink(c.Request().Context(), c.Param("code"), c.Param("label"), in)
	return ok(c, http.StatusOK, l, err)
}

func (a *api) removeLink(c *echo.Context, _ principal) error {
	return done(c, a.engine().RemoveLink(c.Request().Context(), c.Param("code"), c.Param("label")))
}

func (a *api) devices(c *echo.Context, _ principal) error {
	list, err := a.engine().Devices(c.Param("code"))
	return ok(c, http.StatusOK, list, err)
}

func (a *api) addDevice(c *echo.Context, _ principal) error {
	var in contract.DeviceInput
	if err := decode(c, &in); err != nil {
		return err
	}
	d, err := a.engine().AddDevice(c.Request().Context(), c.Param("code"), in)
	return ok(c, http.StatusCreated, d, err)
}

func (a *api) device(c *echo.Context, _ principal) error {
	d, err := a.engine().Device(c.Param("code"), c.Param("name"))
	return ok(c, http.StatusOK, d, err)
}

func (a *api) editDevice(c *echo.Context, _ principal) error {
	in, err := merge[contract.DeviceInput](c)
	if err != nil {
		return err
	}
	d, err := a.engine().EditDevice(c.Request().Context(), c.Param("code"), c.Param("name"), in)
	return ok(c, http.StatusOK, d, err)
}

func (a *api) removeDevice(c *echo.Context, _ principal) error {
	return done(c, a.engine().RemoveDevice(c.Request().Context(), c.Param("code"), c.Param("name")))
}

func (a *api) services(c *echo.Context, _ principal) error {
	list, err := a.engine().Services(c.Param("code"))
	return ok(c, http.StatusOK, list, err)
}

func (a *api) addService(c *echo.Context, _ principal) error {
	var in contract.ServiceInput
	if err := decode(c, &in); err != nil {
		return err
	}
	s, err := a.engine().AddService(c.Request().Context(), c.Param("code"), in)
	return ok(c, http.StatusCreated, s, err)
}

func (a *api) service(c *echo.Context, _ principal) error {
	s, err := a.engine().Service(c.Param("code"), c.Param("name"))
	return ok(c, http.StatusOK, s, err)
}

func (a *api) editService(c *echo.Context, _ principal) error {
	in, err := merge[contract.ServiceInput](c)
	if err != nil {
		return err
	}
	s, err := a.engine().EditService(c.Request().Context(), c.Param("code"), c.Param("name"), in)
	return ok(c, http.StatusOK, s, err)
}

func (a *api) removeService(c *echo.Context, _ principal) error {
	return done(c, a.engine().RemoveService(c.Request().Context(), c.Param("code"), c.Param("name")))
}

func (a *api) zones(c *echo.Context, _ principal) error {
	return c.JSON(http.StatusOK, a.engine().Zones())
}

func (a *api) addZone(c *echo.Context, _ principal) error {
	var in contract.ZoneInput
	if err := decode(c, &in); err != nil {
		return err
	}
	z, err := a.engine().AddZone(c.Request().Context(), in)
	return ok(c, http.StatusCreated, z, err)
}

func (a *api) zone(c *echo.Context, _ principal) error {
	z, err := a.engine().Zone(c.Param("apex"))
	return ok(c, http.StatusOK, z, err)
}

func (a *api) editZone(c *echo.Context, _ principal) error {
	in, err := merge[contract.ZoneInput](c)
	if err != nil {
		return err
	}
	z, err := a.engine().EditZone(c.Request().Context(), c.Param("apex"), in)
	return ok(c, http.StatusOK, z, err)
}

func (a *api) removeZone(c *echo.Context, _ principal) error {
	return done(c, a.engine().RemoveZone(c.Request().Context(), c.Param("apex")))
}

func (a *api) hostnames(c *echo.Context, _ principal) error {
	q := contract.HostnameQuery{Site: c.QueryParam("site"), Zone: c.QueryParam("zone"), Search: c.QueryParam("search")}
	var err error
	if q.Limit, q.Offset, err = part(c); err != nil {
		return err
	}
	list, total, err := a.engine().Hostnames(c.Request().Context(), q)
	c.Response().Header().Set(contract.TotalHeader, strconv.Itoa(total))
	return ok(c, http.StatusOK, list, err)
}

func (a *api) addHostname(c *echo.Context, _ principal) error {
	var in contract.HostnameInput
	if err := decode(c, &in); err != nil {
		return err
	}
	h, err := a.engine().AddHostname(c.Request().Context(), in)
	return ok(c, http.StatusCreated, h, err)
}

func (a *api) hostname(c *echo.Context, _ principal) error {
	h, err := a.engine().Hostname(c.Request().Context(), c.Param("name"))
	return ok(c, http.StatusOK, h, err)
}

func (a *api) editHostname(c *echo.Context, _ principal) error {
	in, err := merge[contract.HostnameInput](c)
	if err != nil {
		return err
	}
	h, err := a.engine().EditHostname(c.Request().Context(), c.Param("name"), in)
	return ok(c, http.StatusOK, h, err)
}

func (a *api) removeHostname(c *echo.Context, _ principal) error {
	return done(c, a.engine().RemoveHostname(c.Request().Context(), c.Param("name")))
}
