package client

import (
	"context"

	"inkpost.example/inkpost/internal/contract"
)

// Calendar lists what is planned, and what ends.
func (c *Client) Calendar(ctx context.Context) ([]contract.CalendarEntry, error) {
	return call[[]contract.CalendarEntry](ctx, c, "GET", "/calendar", nil)
}

// AddCalendarKey makes a key that reads the calendar by its URL, and nothing else.
func (c *Client) AddCalendarKey(ctx context.Context, label string) (contract.Key, error) {
	return call[contract.Key](ctx, c, "POST", "/calendar/keys", contract.CalendarInput{Label: label})
}
