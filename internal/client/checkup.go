package client

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/checkup"
)

// Checkup has the installation looked at. tell is told each thing as it is looked at.
func (c *Client) Checkup(ctx context.Context, tell func(checkup.Point)) error {
	endless := &http.Client{Transport: c.http.Transport}
	r, err := c.send(ctx, endless, "GET", "/checkup", nil, nil)
	if err != nil {
		return err
	}
	defer r.Body.Close()
	return readLines(r.Body, func(news contract.CheckupNews) (bool, error) {
		if news.Check != nil {
			tell(*news.Check)
		}
		return news.Worst != "", nil
	})
}

// Ready asks the server whether it can do all of its work.
func (c *Client) Ready(ctx context.Context) (out contract.Ready, err error) {
	req, err := http.NewRequestWithContext(ctx, "GET", c.base+"/readyz", nil)
	if err != nil {
		return out, err
	}
	r, err := c.http.Do(req)
	if err != nil {
		return out, &Unreachable{Base: c.base, Err: err}
	}
	defer r.Body.Close()
	if err := json.NewDecoder(r.Body).Decode(&out); err != nil || out.Database == "" {
		return out, fmt.Errorf("what answers at %s is not Ink Post: %s", c.base, r.Status)
	}
	return out, nil
}
