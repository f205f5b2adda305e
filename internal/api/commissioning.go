package api

import (
	"net/http"

	"github.com/labstack/echo/v5"

	"inkpost.example/inkpost/internal/contract"
)

func (a *api) commissioningRoutes() []route {
	at := base + "/sites/:code/commissioning"
	return []route{
		{method: "GET", path: base + "/commissioning", summary: "List what is to be commissioned, and the step that each part lacks",
			who: person, out: []contract.ToCommission{}, serve: a.toCommission},
		{method: "GET", path: at, summary: "Show how the commissioning of a site stands", who: person, out: contract.Commissioning{},
			serve: a.commissioning},
		{method: "POST", path: at, summary: "Begin to commission services of a site, or join those who do", who: person,
			in: contract.CommissioningInput{}, out: contract.Commissioning{}, status: http.StatusCreated, serve: a.commission},
		{method: "POST", path: at + "/answers", summary: "Say that a step is done, passed over, or due again", who: person,
			in: contract.CommissioningAnswer{}, out: contract.Commissioning{}, serve: a.answerStep},
		{method: "POST", path: at + "/services/:service/proof", slow: true,
			summary: "Have the agent prove the way in to a service before its device is there", who: person, out: contract.Proof{},
			serve: a.proveStep},
		{method: "DELETE", path: at, summary: "End the commissioning of a site; its record is kept", who: person,
			out: contract.Commissioning{}, serve: a.endCommissioning},
	}
}

func (a *api) toCommission(c *echo.Context, _ principal) error {
	return ok(c, http.StatusOK, a.engine().ToCommission(c.Request().Context()), nil)
}

func (a *api) commissioning(c *echo.Context, _ principal) error {
	out, err := a.engine().Commissioning(c.Request().Context(), c.Param("code"))
	return ok(c, http.StatusOK, out, err)
}

func (a *api) commission(c *echo.Context, p principal) error {
	var in contract.CommissioningInput
	if err := decode(c, &in); err != nil {
		return err
	}
	out, err := a.engine().Commission(c.Request().Context(), c.Param("code"), in, p.name)
	return ok(c, http.StatusCreated, out, err)
}

func (a *api) answerStep(c *echo.Context, p principal) error {
	var in contract.CommissioningAnswer
	if err := decode(c, &in); err != nil {
		return err
	}
	out, err := a.engine().AnswerStep(c.Request().Context(), c.Param("code"), in, p.name)
	return ok(c, http.StatusOK, out, err)
}

func (a *api) proveStep(c *echo.Context, p principal) error {
	out, err := a.engine().ProveStep(c.Request().Context(), c.Param("code"), c.Param("service"), p.name)
	return ok(c, http.StatusOK, out, err)
}

func (a *api) endCommissioning(c *echo.Context, p principal) error {
	out, err := a.engine().EndCommissioning(c.Request().Context(), c.Param("code"), p.name)
	return ok(c, http.StatusOK, out, err)
}
