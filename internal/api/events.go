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

// eventPause is how long what follows an event is collected before it is sent: much may happen at once, and many may listen.
const eventPause = 20 * time.Millisecond

// eventsAtOnce is how many events are sent in one go.
const eventsAtOnce = 512

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
	lost := func() error { // the client comes back and starts afresh
		_, _ = fmt.Fprint(w, "event: reread\ndata: {}\n\n")
		return nil
	}
	for {
		var err error
		select {
		case <-sub.News:
			list, ok := sub.Take(eventsAtOnce)
			if !ok {
				return lost()
			}
			for _, ev := range list {
				if only != "" && ev.Site != only && ev.Site != "" || !p.sight.All() && !a.seesEvent(c, ev) {
					continue
				}
				if _, err = w.Write(ev.Shown(eventText)); err != nil {
					return nil
				}
			}
			if flush() != nil {
				return nil
			}
			select {
			case <-time.After(eventPause):
			case <-c.Request().Context().Done():
				return nil
			}
			continue
		case <-tick.C:
			if a.unheard() { // whoever comes back learns that
				return nil
			}
			_, err = fmt.Fprint(w, ": still here\n\n")
		case <-c.Request().Context().Done():
			return nil
		}
		if err != nil || flush() != nil {
			return nil
		}
	}
}

// unheard reports whether this server stands by and does not hear the one that writes: then nothing is known of what happens.
func (a *api) unheard() bool {
	eng := a.engine()
	return eng.Follows() && !eng.Following.Sees()
}

// seesEvent reports whether an event is about a site that the caller sees.
func (a *api) seesEvent(c *echo.Context, ev events.Event) bool {
	if ev.Site == "" {
		return false
	}
	_, err := a.engine().SiteSeen(c.Request().Context(), ev.Site)
	return err == nil
}

// eventText is an event as it is sent.
func eventText(ev events.Event) []byte {
	doc, _ := json.Marshal(eventDocument(ev))
	return fmt.Appendf(nil, "id: %s\ndata: %s\n\n", ev.ID, doc)
}

// eventDocument makes the CloudEvents 1.0 document of an event.
func eventDocument(ev events.Event) contract.Event {
	return contract.Event{SpecVersion: "1.0", ID: ev.ID, Source: "/inkpost", Type: string(ev.Kind), Subject: ev.Site, Time: ev.At,
		Data: contract.EventData{Site: ev.Site, Part: ev.Part, Words: ev.Words}}
}
