package api

import (
	"context"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"net/http"
	"strconv"
	"time"

	"github.com/labstack/echo/v5"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
)

func (a *api) kinds(c *echo.Context, _ principal) error {
	return c.JSON(http.StatusOK, probe.Traits())
}

func (a *api) cards(c *echo.Context, _ principal) error {
	out, err := a.engine().Cards(c.Param("code"), c.Param("name"))
	return ok(c, http.StatusOK, out, err)
}

func (a *api) pin(c *echo.Context, p principal) error {
	var in contract.Pin
	if err := decode(c, &in); err != nil {
		return err
	}
	out, err := a.engine().Pin(c.Request().Context(), c.Param("code"), c.Param("name"), in.Fingerprint, p.name)
	return ok(c, http.StatusOK, out, err)
}

func (a *api) availability(c *echo.Context, _ principal) error {
	out, err := a.engine().Availability(c.Request().Context(), c.Param("code"), c.Param("name"))
	return ok(c, http.StatusOK, out, err)
}

func (a *api) days(c *echo.Context, _ principal) error {
	count, err := number(c, "count", 90, 1, 400)
	if err != nil {
		return site.Flaws{{Field: "count", Detail: err.Error()}}
	}
	out, err := a.engine().Days(c.Request().Context(), c.Param("code"), c.Param("name"), count)
	return ok(c, http.StatusOK, out, err)
}

// writeWait is how long a receiver of a stream may take to take in one piece of it.
const writeWait = 30 * time.Second

// lineByLine writes JSON documents one a line, each at once.
func lineByLine(c *echo.Context) (write func(doc any) error) {
	w := c.Response()
	control := http.NewResponseController(w)
	begun := false
	return func(doc any) error {
		if !begun {
			begun = true
			w.Header().Set("Content-Type", "application/x-ndjson")
			w.Header().Set("Cache-Control", "no-store")
			w.WriteHeader(http.StatusOK)
		}
		_ = control.SetWriteDeadline(time.Now().Add(writeWait))
		if err := json.NewEncoder(w).Encode(doc); err != nil {
			return err
		}
		return control.Flush()
	}
}

// review carries an exposure review out, and tells how far it is while it does.
func (a *api) review(c *echo.Context, p principal) error {
	var in contract.ReviewInput
	if err := decode(c, &in); err != nil {
		return err
	}
	ctx, cancel := context.WithCancel(c.Request().Context())
	defer cancel()
	write := lineByLine(c)
	out, err := a.engine().ReviewExposure(ctx, c.Param("code"), in.Consent, p.name, func(done, of int) {
		if write(contract.ReviewNews{Done: done, Of: of}) != nil {
			cancel()
		}
	})
	if err != nil {
		return err
	}
	return write(contract.ReviewNews{Done: len(out.Ports), Of: len(out.Ports), Review: &out})
}

func (a *api) reviews(c *echo.Context, _ principal) error {
	out, err := a.engine().Reviews(c.Request().Context(), c.Param("code"))
	return ok(c, http.StatusOK, out, err)
}

func (a *api) vantages(c *echo.Context, _ principal) error {
	return c.JSON(http.StatusOK, a.engine().Vantages())
}

func (a *api) inviteVantage(c *echo.Context, _ principal) error {
	var in contract.VantageInput
	if err := decode(c, &in); err != nil {
		return err
	}
	out, err := a.engine().InviteVantage(c.Request().Context(), in)
	out.Server = a.public
	return ok(c, http.StatusCreated, out, err)
}

func (a *api) removeVantage(c *echo.Context, _ principal) error {
	if err := a.engine().RemoveVantage(c.Request().Context(), c.Param("name")); err != nil {
		return err
	}
	return c.NoContent(http.StatusNoContent)
}

func (a *api) enrolVantage(c *echo.Context, _ principal) error {
	var in contract.Enrolment
	if err := decode(c, &in); err != nil {
		return err
	}
	out, err := a.engine().EnrolVantage(c.Request().Context(), in)
	return ok(c, http.StatusCreated, out, err)
}

// assignments streams what a vantage point is to probe: everything first, or what has changed since its cursor, then what
// changes. A quiet stream says every few seconds that it is still there, and what time it is.
func (a *api) assignments(c *echo.Context, p principal) error {
	cursor, err := echo.QueryParamOr[uint64](c, "cursor", 0)
	if err != nil {
		return site.Flaws{{Field: "cursor", Detail: fmt.Sprintf("%q is not a cursor of this stream", c.QueryParam("cursor"))}}
	}
	eng := a.engine()
	end, ok := eng.Streaming(p.vantage)
	if !ok {
		return errTooOften
	}
	defer end()
	write := lineByLine(c)
	ctx := c.Request().Context()
	for ctx.Err() == nil {
		wait, cancel := context.WithTimeout(ctx, heartbeat)
		news, there := eng.News(wait, p.vantage, cursor)
		cancel()
		if !there || ctx.Err() != nil {
			return nil // it is no longer on record, or the server stops: it finds out when it comes back
		}
		if err := write(news); err != nil {
			return nil
		}
		cursor = news.Cursor
	}
	return nil
}

// maxOutcomes bounds a batch, maxAttempts the attempts of one outcome that is told in full.
const maxOutcomes, maxAttempts = 5000, 256

// maxHops bounds a series of packets with a hop limit: nothing on the internet is further away.
const maxHops = 64

func (a *api) outcomes(c *echo.Context, p principal) error {
	if err := a.bound(outcomesOfKey, p); err != nil {
		return err
	}
	var in contract.OutcomeBatch
	if err := decodeReport(c, &in); err != nil {
		return err
	}
	from, err := clientAddress(c)
	if err != nil {
		return err
	}
	var f site.Flaws
	if len(in.Outcomes) > maxOutcomes || len(in.Networks) > maxReports*4 {
		f.Note("outcomes", fmt.Errorf("there are too many; %d at most, and %d networks", maxOutcomes, maxReports*4))
	}
	if in.Sent.IsZero() {
		f.Note("sent", fmt.Errorf("is required; say when the batch was sent"))
	}
	for _, words := range append([]string{in.Version, in.Platform, in.Observed, in.Ailing}, in.Networks...) {
		if len(words) > 2*maxWords {
			f.Note("version", fmt.Errorf("a text has more than %d characters", 2*maxWords))
			break
		}
	}
	for i, o := range in.Outcomes {
		if len(o.Attempts) > maxAttempts {
			f.Note(fmt.Sprintf("outcomes[%d].attempts", i), fmt.Errorf("there are more than %d", maxAttempts))
		}
		if !o.Outcome.Known() {
			f.Note(fmt.Sprintf("outcomes[%d].outcome", i), fmt.Errorf("%q is unknown", o.Outcome))
		}
		if len(o.Message) > 4*maxWords || len(o.Fingerprint) > maxWords || o.LatencyUS < 0 || o.LatencyUS > time.Minute.Microseconds() {
			f.Note(fmt.Sprintf("outcomes[%d]", i), fmt.Errorf("words are too long, or the latency is out of range"))
		}
		if s := o.Series; s != nil && (len(s.Answers) > maxHops || len(s.Problem) > maxWords || !s.Distance.Known()) {
			f.Note(fmt.Sprintf("outcomes[%d].series", i), fmt.Errorf("has more than %d answers, too long a text, or an unknown distance",
				maxHops))
		}
		if len(f) > 5 {
			break
		}
	}
	if err := f.Err(); err != nil {
		return err
	}
	out, err := a.engine().NoteOutcomes(c.Request().Context(), p.vantage, from, in)
	return ok(c, http.StatusOK, out, err)
}

// historyCSV writes a service's spans as comma-separated values (RFC 4180).
func historyCSV(c *echo.Context, h contract.History) error {
	w := c.Response()
	w.Header().Set("Content-Type", "text/csv; charset=utf-8; header=present")
	w.WriteHeader(http.StatusOK)
	out := csv.NewWriter(w)
	_ = out.Write([]string{"service", "vantage", "outcome", "from", "until", "count", "fastest_us", "mean_us", "slowest_us"})
	for _, s := range h.Spans {
		_ = out.Write([]string{h.Service, s.Vantage, string(s.Outcome), s.From.Format(time.RFC3339Nano),
			s.Until.Format(time.RFC3339Nano), strconv.FormatInt(s.Count, 10),
			strconv.FormatInt(s.Fastest, 10), strconv.FormatInt(s.Mean(), 10), strconv.FormatInt(s.Slowest, 10)})
	}
	out.Flush()
	return out.Error()
}
