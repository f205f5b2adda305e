package api

import (
	"encoding/json"
	"fmt"
	"net/http"
	"time"

	"github.com/labstack/echo/v5"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/engine/events"
)

// heartbeat keeps proxies from taking a quiet stream for a dead one.
const heartbeat = 15 * time.Second

// events streams what happens. A client that returns with Last-Event-ID gets what it missed; where that is no longer kept,
// an event called "reread" tells it to read everything anew.
func (a *api) events(c *echo.Context, p principal) error {
	after := c.Request().Header.Get("Last-Event-ID")
	only := c.QueryParam("site")
	hub := a.engine().Events
	sub, complete := hub.Subscribe(after)
	defer hub.Unsubscribe(sub)
	w := c.Response()
	w.Header().Set("Content-Type", "text/event-stream")
	w.Header().Set("Cache-Control", "no-store")
	w.WriteHeader(http.StatusOK)
	control := http.NewResponseController(w)
	flush := func() error {
		defer func() { _ = control.SetWriteDeadline(time.Now().Add(heartbeat + writeWait)) }()
		return control.Flush()
	}
	opening := ": listening\n\n"
	if !complete {
		opening = "event: reread\ndata: {}\n\n"
	}
	if _, err := fmt.Fprint(w, opening); err != nil {
		return nil
	}
	if err := flush(); err != nil {
		return nil
	}
	tick := time.NewTicker(heartbeat)
	defer tick.Stop()
	for {
		var err error
		select {
		case ev := <-sub.C:
			if only != "" && ev.Site != only && ev.Site != "" || !p.sight.All() && !a.seesEvent(c, ev) {
				continue
			}
			doc, _ := json.Marshal(eventDocument(ev))
			_, err = fmt.Fprintf(w, "id: %s\ndata: %s\n\n", ev.ID, doc)
		case <-tick.C:
			_, err = fmt.Fprint(w, ": still here\n\n")
		case <-sub.Lost:
			_, _ = fmt.Fprint(w, "event: reread\ndata: {}\n\n")
			return nil // the client comes back and starts afresh
		case <-c.Request().Context().Done():
			return nil
		}
		if err != nil || flush() != nil {
			return nil
		}
	}
}

// seesEvent reports whether an event is about a site that the caller sees.
func (a *api) seesEvent(c *echo.Context, ev events.Event) bool {
	if ev.Site == "" {
		return false
	}
	_, err := a.engine().SiteSeen(c.Request().Context(), ev.Site)
	return err == nil
}

// eventDocument makes the CloudEvents 1.0 document of an event.
func eventDocument(ev events.Event) contract.Event {
	return contract.Event{SpecVersion: "1.0", ID: ev.ID, Source: "/inkpost", Type: string(ev.Kind), Subject: ev.Site, Time: ev.At,
		Data: contract.EventData{Site: ev.Site, Part: ev.Part, Words: ev.Words}}
}
