package api

import (
	"github.com/labstack/echo/v5"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/checkup"
)

// checkupRoutes lists the endpoints of the installation itself.
func (a *api) checkupRoutes() []route {
	return []route{{method: "GET", path: base + "/checkup", slow: true, who: person, out: contract.CheckupNews{},
		summary: "Look at the installation: database, disk, clock, backup, ports from outside, zones, mail, certificate; " +
			"application/x-ndjson comes back, a line for each thing as it is looked at", serve: a.checkup}}
}

func (a *api) checkup(c *echo.Context, _ principal) error {
	write := lineByLine(c)
	var all []checkup.Point
	err := a.engine().Checkup.All(c.Request().Context(), func(one checkup.Point) error {
		all = append(all, one)
		return write(contract.CheckupNews{Check: &one})
	})
	if err != nil {
		return err
	}
	return write(contract.CheckupNews{Worst: checkup.Worst(all)})
}
