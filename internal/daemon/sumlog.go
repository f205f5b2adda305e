package daemon

import (
	"context"
	"log/slog"
	"sync"
	"time"
)

// sumEvery is how long a line that repeats is counted instead of written.
const sumEvery = 10 * time.Second

// summed writes a line that repeats once in sumEvery, with how often it came: what somebody outside can cause thousands of times a
// second must not fill the disk. Lines are the same where level and message are.
type summed struct {
	slog.Handler
	seen *seenLines
}

type seenLines struct {
	mu    sync.Mutex
	lines map[string]*seenLine
	now   func() time.Time
}

type seenLine struct {
	since time.Time
	more  int
}

// maxSeen bounds how many different lines are remembered.
const maxSeen = 1000

func sum(h slog.Handler) slog.Handler {
	return summed{h, &seenLines{lines: map[string]*seenLine{}, now: time.Now}}
}

// Handle implements slog.Handler.
func (s summed) Handle(ctx context.Context, r slog.Record) error {
	more, write := s.seen.take(r.Level.String() + " " + r.Message)
	if !write {
		return nil
	}
	if more > 0 {
		r = r.Clone()
		r.AddAttrs(slog.Int("times_since_the_last_line", more+1))
	}
	return s.Handler.Handle(ctx, r)
}

// WithAttrs implements slog.Handler.
func (s summed) WithAttrs(attrs []slog.Attr) slog.Handler {
	return summed{s.Handler.WithAttrs(attrs), s.seen}
}

// WithGroup implements slog.Handler.
func (s summed) WithGroup(name string) slog.Handler {
	return summed{s.Handler.WithGroup(name), s.seen}
}

// repeatsFree is how often a line may come in sumEvery before it is summed.
const repeatsFree = 20

// take counts a line. write reports whether it is to be written, more how many were left out since the last that was.
func (l *seenLines) take(key string) (more int, write bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	now := l.now()
	line := l.lines[key]
	if line == nil || now.Sub(line.since) >= sumEvery {
		if line != nil && line.more > repeatsFree {
			more = line.more - repeatsFree
		}
		if len(l.lines) >= maxSeen {
			clear(l.lines)
		}
		l.lines[key] = &seenLine{since: now}
		return more, true
	}
	line.more++
	return 0, line.more < repeatsFree
}
