package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"

	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/site"
)

// Current reads the record as it is at one moment, with the moves that are accepted and not yet in its tables: what is read from those
// alone may lie a second behind, and a server that answered by it would go back to addresses, and to serials, of before.
type Current struct {
	*Store
	moved   map[int64]Change
	serials map[int64]uint32
}

// Current calls f with the record as it is now. Errors: those of f and of the database.
func (s *Store) Current(ctx context.Context, f func(Current) error) error {
	tx, err := s.root.BeginTxx(ctx, &sql.TxOptions{Isolation: sql.LevelRepeatableRead, ReadOnly: true})
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback() }()
	one := *s
	one.db, one.tx = tx, tx
	g, err := one.unsettled(ctx)
	if err != nil {
		return err
	}
	c := Current{Store: &one, moved: map[int64]Change{}, serials: g.Serials}
	for _, m := range g.Changes {
		c.moved[m.LinkID] = m
	}
	return f(c)
}

// unsettled are the moves that are accepted and not yet in the tables. Errors: a group that cannot be read, and those of the database.
func (s *Store) unsettled(ctx context.Context) (all Group, err error) {
	var rows []string
	if err := s.db.SelectContext(ctx, &rows, `SELECT content FROM accepted ORDER BY id`); err != nil {
		return all, err
	}
	for _, row := range rows {
		var a accepted
		err := json.Unmarshal([]byte(row), &a)
		g, wrong := a.group()
		if err := errors.Join(err, wrong); err != nil {
			return all, fmt.Errorf("a group of moves that was accepted cannot be read: %w", err)
		}
		all.Add(g)
	}
	return all, nil
}

// Links lists the links of a site by preference; siteID 0 lists those of all sites. Error: that of the database.
func (c Current) Links(ctx context.Context, siteID int64) ([]site.Link, error) {
	list, err := c.Store.Links(ctx, siteID)
	for i, l := range list {
		if m, ok := c.moved[l.ID]; ok {
			list[i] = m.On(l)
		}
	}
	return list, err
}

// Zones lists all zones. Error: that of the database.
func (c Current) Zones(ctx context.Context) ([]names.Zone, error) {
	list, err := c.Store.Zones(ctx)
	for i, z := range list {
		if serial, ok := c.serials[z.ID]; ok && names.SerialAfter(serial, z.Serial) {
			list[i].Serial = serial
		}
	}
	return list, err
}

// On returns a link after the change.
func (c Change) On(l site.Link) site.Link {
	l.IPv4, l.IPv6, l.Source, l.Since, l.Heard = c.New.IPv4, c.New.IPv6, c.Source, c.Received, c.Received
	return l
}
