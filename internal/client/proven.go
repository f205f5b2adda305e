package client

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"time"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
)

// Kinds lists what can be probed.
func (c *Client) Kinds(ctx context.Context) ([]probe.Trait, error) {
	return call[[]probe.Trait](ctx, c, "GET", "/kinds", nil)
}

// Cards returns what to type into the site's router for a service.
func (c *Client) Cards(ctx context.Context, code, service string) ([]site.Card, error) {
	return call[[]site.Card](ctx, c, "GET", at("sites", code, "services", service, "cards"), nil)
}

// Pin has a service recognised by a fingerprint; by what it showed last where it is empty.
func (c *Client) Pin(ctx context.Context, code, service, fingerprint string) (contract.Service, error) {
	return call[contract.Service](ctx, c, "PUT", at("sites", code, "services", service, "fingerprint"),
		contract.Pin{Fingerprint: fingerprint})
}

// Availability tells how the services of a site were; one of them where service is not empty.
func (c *Client) Availability(ctx context.Context, code, service string) ([]contract.ServiceAvailability, error) {
	path := at("sites", code, "availability")
	if service != "" {
		path = at("sites", code, "services", service, "availability")
	}
	return call[[]contract.ServiceAvailability](ctx, c, "GET", path, nil)
}

// Days returns the availability and latency of a service day by day, over the last so many days.
func (c *Client) Days(ctx context.Context, code, service string, count int) ([]contract.Availability, error) {
	return call[[]contract.Availability](ctx, c, "GET", at("sites", code, "services", service, "days")+query("count", fmt.Sprint(count)),
		nil)
}

// ProbeFrom probes a service from a vantage point now; from the server itself where vantage is empty.
func (c *Client) ProbeFrom(ctx context.Context, code, service, vantage string) (contract.ProbeTrace, error) {
	return call[contract.ProbeTrace](ctx, c, "POST", at("sites", code, "services", service, "probes")+query("from", vantage), nil)
}

// HistoryCSV writes a service's spans as comma-separated values.
func (c *Client) HistoryCSV(ctx context.Context, code, service string, from, until time.Time, w io.Writer) error {
	r, err := c.send(ctx, c.http, "GET", at("sites", code, "services", service, "history")+
		query("from", instant(from), "until", instant(until), "format", "csv"), nil, nil)
	if err != nil {
		return err
	}
	defer r.Body.Close()
	_, err = io.Copy(w, r.Body)
	return err
}

// Review has a site's own address looked at for ports that are commonly left open. progress is told how far it is.
func (c *Client) Review(ctx context.Context, code, consent string, progress func(done, of int)) (contract.Review, error) {
	endless := &http.Client{Transport: c.http.Transport}
	r, err := c.send(ctx, endless, "POST", at("sites", code, "reviews"), contract.ReviewInput{Consent: consent}, nil)
	if err != nil {
		return contract.Review{}, err
	}
	defer r.Body.Close()
	var out contract.Review
	err = readLines(r.Body, func(news contract.ReviewNews) (bool, error) {
		if news.Review != nil {
			out = *news.Review
			return true, nil
		}
		progress(news.Done, news.Of)
		return false, nil
	})
	return out, err
}

// Reviews lists the exposure reviews of a site.
func (c *Client) Reviews(ctx context.Context, code string) ([]contract.Review, error) {
	return call[[]contract.Review](ctx, c, "GET", at("sites", code, "reviews"), nil)
}

// Vantages lists the vantage points.
func (c *Client) Vantages(ctx context.Context) ([]contract.Vantage, error) {
	return call[[]contract.Vantage](ctx, c, "GET", "/vantages", nil)
}

// Servers lists the servers on the database, the one that writes first.
func (c *Client) Servers(ctx context.Context) ([]contract.Server, error) {
	return call[[]contract.Server](ctx, c, "GET", "/servers", nil)
}

// InviteVantage makes a one-time code for a vantage point.
func (c *Client) InviteVantage(ctx context.Context, in contract.VantageInput) (contract.VantageInvitation, error) {
	return call[contract.VantageInvitation](ctx, c, "POST", "/vantages", in)
}

// RemoveVantage removes a vantage point.
func (c *Client) RemoveVantage(ctx context.Context, name string) error {
	_, err := call[nothing](ctx, c, "DELETE", at("vantages", name), nil)
	return err
}

// EnrolVantage returns a vantage point its key for a one-time code; again with the same claim.
func (c *Client) EnrolVantage(ctx context.Context, code, claim string) (contract.VantageEnrolled, error) {
	return call[contract.VantageEnrolled](ctx, c, "POST", "/vantage/enrolment", contract.Enrolment{Code: code, Claim: claim})
}

// Assignments follows, with a vantage point's key, what to probe, from a cursor on. It returns when the stream ends; silent
// is how long it may say nothing.
func (c *Client) Assignments(ctx context.Context, cursor uint64, silent time.Duration, f func(contract.AssignmentNews)) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	endless := &http.Client{Transport: c.http.Transport}
	path := "/vantage/assignments"
	if cursor > 0 {
		path += query("cursor", strconv.FormatUint(cursor, 10))
	}
	watch := time.AfterFunc(silent, cancel)
	defer watch.Stop()
	r, err := c.send(ctx, endless, "GET", path, nil, nil)
	if err != nil {
		return err
	}
	defer r.Body.Close()
	lines := json.NewDecoder(bufio.NewReaderSize(r.Body, 64<<10))
	for {
		var news contract.AssignmentNews
		if err := lines.Decode(&news); err != nil {
			if errors.Is(err, io.EOF) {
				return nil
			}
			return &Unreachable{Base: c.base, Err: err}
		}
		watch.Reset(silent)
		f(news)
	}
}

// ReturnOutcomes returns, with a vantage point's key, what it saw.
func (c *Client) ReturnOutcomes(ctx context.Context, in contract.OutcomeBatch) (contract.BatchTaken, error) {
	return call[contract.BatchTaken](ctx, c, "POST", "/vantage/outcomes", in)
}
