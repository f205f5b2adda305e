package client

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"

	"inkpost.example/inkpost/internal/contract"
)

// RecordFile writes the record as a file: "yaml", "json", or "csv" of one kind, of which template gives one line to go by.
func (c *Client) RecordFile(ctx context.Context, format, kind string, template bool, w io.Writer) error {
	yes := map[bool]string{true: "true"}
	r, err := c.send(ctx, c.http, "GET", "/record"+query("format", format, "kind", kind, "template", yes[template]), nil, nil)
	if err != nil {
		return err
	}
	defer r.Body.Close()
	_, err = io.Copy(w, r.Body)
	return err
}

// LANList reads a list of devices as a site's router printed it, and says which of them are on record.
func (c *Client) LANList(ctx context.Context, code string, list io.Reader) (out contract.LANList, err error) {
	r, err := c.send(ctx, c.http, "POST", at("sites", code, "lan-list"), list, map[string][]string{"Content-Type": {"text/plain"}})
	if err != nil {
		return out, err
	}
	defer r.Body.Close()
	if err := json.NewDecoder(r.Body).Decode(&out); err != nil {
		return out, fmt.Errorf("the server's reply cannot be read: %w", err)
	}
	return out, nil
}

// DeclareHow says how a file is taken. Type is its media type, Kind what the lines of text/csv are, Columns what its headings stand for, as
// HEADING=FIELD.
type DeclareHow struct {
	Type, Kind         string
	Columns            []string
	DryRun, LineByLine bool
}

// Declare brings the record in step with a file. progress is told how far it is.
func (c *Client) Declare(ctx context.Context, file io.Reader, how DeclareHow, progress func(done, of int)) (contract.Declared, error) {
	q := url.Values{"column": how.Columns}
	for name, on := range map[string]bool{"dry_run": how.DryRun, "line_by_line": how.LineByLine} {
		if on {
			q.Set(name, "true")
		}
	}
	if how.Kind != "" {
		q.Set("kind", how.Kind)
	}
	endless := &http.Client{Transport: c.http.Transport}
	r, err := c.send(ctx, endless, "POST", "/record?"+q.Encode(), file, map[string][]string{"Content-Type": {how.Type}})
	if err != nil {
		return contract.Declared{}, err
	}
	defer r.Body.Close()
	var out contract.Declared
	err = readLines(r.Body, func(news contract.DeclaredNews) (last bool, err error) {
		switch {
		case news.Failed != "":
			return true, errors.New(news.Failed)
		case news.Result != nil:
			out = *news.Result
			return true, nil
		case progress != nil:
			progress(news.Done, news.Of)
		}
		return false, nil
	})
	return out, err
}
