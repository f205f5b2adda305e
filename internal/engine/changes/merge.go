package changes

import (
	"context"
	"errors"

	"inkpost.example/inkpost/internal/core/site"
)

// Flawed gathers the flaws that several checks found; an error that is no flaw comes first.
func Flawed(errs ...error) error {
	var all site.Flaws
	for _, err := range errs {
		var f site.Flaws
		switch {
		case err == nil:
		case errors.As(err, &f):
			all = append(all, f...)
		default:
			return err
		}
	}
	return all.Err()
}

// Merge changes what a person would enter of a resource into what they ask for.
type Merge[T any] func(*T) error

// Merged returns what a person asks for of a resource: what is there now, with their fields over it. An edit of an older revision is
// refused before anything of it is looked at.
func Merged[T any](ctx context.Context, ch *Changes, of Resource, now T, merge Merge[T]) (T, error) {
	if err := ch.Unchanged(ctx, of); err != nil {
		return now, err
	}
	err := merge(&now)
	return now, err
}
