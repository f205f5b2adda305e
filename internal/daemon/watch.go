package daemon

import (
	"context"
	"encoding/gob"
	"errors"

	"inkpost.example/inkpost/internal/engine"
	"inkpost.example/inkpost/internal/engine/mirror"
)

// watch keeps what this server knows in line with what the one that writes knows, for as long as it stands by, until ctx ends.
func (m *members) watch(ctx context.Context) {
	m.standingBy(ctx, "it is not heard what the server that writes knows; trying again", m.watchFrom)
}

// watchFrom takes over what the server that writes knows until its stream ends, or this server has another role. Errors: those of the way
// there.
func (m *members) watchFrom(ctx context.Context, e *engine.Engine) error {
	defer e.Following.Blind()
	ctx, heard, answer, err := m.listen(ctx, e, "knowledge", nil)
	if err != nil {
		return err
	}
	defer answer.Close()
	in := gob.NewDecoder(answer)
	for {
		var news mirror.News
		if err := in.Decode(&news); err != nil {
			m.Lost()
			if cause := context.Cause(ctx); cause != nil && !errors.Is(cause, context.Canceled) {
				return cause
			}
			return nil // it has stopped, or we do
		}
		heard()
		if err := e.Following.Show(ctx, news); err != nil {
			return err
		}
	}
}
