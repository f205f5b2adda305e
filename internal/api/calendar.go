package api

import (
	"net/http"
	"strings"

	ics "github.com/arran4/golang-ical"
	"github.com/labstack/echo/v5"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/engine/rooms"
	"inkpost.example/inkpost/internal/store"
)

// calendarRoutes lists the endpoints of the calendar.
func (a *api) calendarRoutes() []route {
	return []route{
		{method: "GET", path: base + "/calendar", summary: "What is planned, and what ends", who: person, out: []contract.CalendarEntry{},
			serve: a.calendar},
		{method: "POST", path: base + "/calendar/keys", summary: "Make a key that reads the calendar by its URL, and nothing else",
			who: person,
			in:  contract.CalendarInput{}, out: contract.Key{}, status: http.StatusCreated, serve: a.addCalendarKey},
		{method: "GET", path: "/calendar/:file", summary: "The calendar, as iCalendar (RFC 5545), by a secret URL", limited: true,
			serve: a.calendarFile},
	}
}

func (a *api) calendar(c *echo.Context, _ principal) error {
	list := a.engine().Calendar(c.Request().Context())
	if list == nil {
		list = []contract.CalendarEntry{}
	}
	return ok(c, http.StatusOK, list, nil)
}

func (a *api) addCalendarKey(c *echo.Context, p principal) error {
	var in contract.CalendarInput
	if err := decode(c, &in); err != nil {
		return err
	}
	k, err := a.engine().AddCalendarKey(c.Request().Context(), p.personID, p.name, in.Label)
	k.Server = a.public
	return ok(c, http.StatusCreated, k, err)
}

func (a *api) calendarFile(c *echo.Context, _ principal) error {
	secret, ok := strings.CutSuffix(c.Param("file"), ".ics")
	k, err := a.engine().Access.Key(secret)
	if !ok || err != nil || k.Scope != store.ScopeCalendar {
		return store.Missing{Kind: "calendar", Name: "of this URL"}
	}
	cal := ics.NewCalendarFor("Ink Post")
	cal.SetMethod(ics.MethodPublish)
	cal.SetName("Ink Post")
	now := a.engine().Now()
	for _, e := range a.engine().Calendar(rooms.WithSight(c.Request().Context(), k.Sight())) {
		event := cal.AddEvent(e.ID + "@inkpost")
		event.SetDtStampTime(now)
		event.SetStartAt(e.From)
		event.SetEndAt(e.Until)
		event.SetSummary(e.Title)
		if e.Words != "" {
			event.SetDescription(e.Words)
		}
	}
	c.Response().Header().Set("Cache-Control", "no-store")
	return c.Blob(http.StatusOK, "text/calendar; charset=utf-8", []byte(cal.Serialize()))
}
