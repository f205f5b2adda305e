// Package notices tells people and webhooks what concerns them. It owns who was told what, and the way of each notice to its recipient. It
// never decides what is to be told (see core/notice): it brings together what is so, writes down what is due, and has it delivered.
//
// No lock may be held when it is called.
package notices

import (
	"context"
	"fmt"
	"log/slog"
	"net/mail"
	"strings"
	"sync"
	"time"

	"inkpost.example/inkpost/internal/core/notice"
	"inkpost.example/inkpost/internal/engine/counters"
	"inkpost.example/inkpost/internal/engine/faults"
	"inkpost.example/inkpost/internal/engine/jobs"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/engine/rounds"
	"inkpost.example/inkpost/internal/store"
	"inkpost.example/inkpost/internal/wire/hook"
	wiremail "inkpost.example/inkpost/internal/wire/mail"
)

// Config of the room.
type Config struct {
	Mail    wiremail.Server // no mail is sent while its Address is ""
	Hooks   hook.Sender
	Console string // where the console is, for links; "" for none
	Now     func() time.Time
	// Counters count the tries to deliver; nil counts nothing.
	Counters *counters.Counters
	Log      *slog.Logger
}

// Host is what the room asks of the engine.
type Host interface {
	// Expiring lists what ends before a moment: certificates, and doors that are open for a while.
	Expiring(before time.Time) []notice.Expiry
}

// Room is the room. It is safe for concurrent use.
type Room struct {
	Config
	host   Host
	store  *store.Store
	record *record.Record
	board  *faults.Board
	queue  *jobs.Queue
	name   string // of this installation

	mu    sync.Mutex
	desk  *notice.Desk
	known map[int64]store.Fault     // open, or closed and somebody who was told of it has not been told that it is over
	moves map[int64]moved           // of which somebody has yet to be told
	zones map[string]*time.Location // of people
	stale bool                      // rules or people were edited
}

const (
	// rememberFor is how long what was told, and what may still have to be, is remembered.
	rememberFor = 7 * 24 * time.Hour
	// keepFor is how long the log of notices goes back.
	keepFor = 90 * 24 * time.Hour
	// roundEvery is how often it is looked at what is due, readEvery how often rules, people and moves are read again.
	roundEvery = time.Second
	readEvery  = 5 * time.Second
)

// New returns a room that knows what everybody was told. Error: that of the database.
func New(ctx context.Context, host Host, st *store.Store, rec *record.Record, board *faults.Board, queue *jobs.Queue, c Config) (*Room,
	error) {
	r := &Room{Config: c, host: host, store: st, record: rec, board: board, queue: queue}
	r.Hooks.Now = c.Now
	jobs.Do(queue, "notices", deliverAtOnce, &worker{room: r})
	var err error
	if r.name, err = st.Installation(ctx); err != nil {
		return nil, fmt.Errorf("read the name of this installation: %w", err)
	}
	return r, r.recall(ctx)
}

// recall reads what everybody was told, and what may have to be. The caller holds the lock, or is the only one who has the room.
func (r *Room) recall(ctx context.Context) error {
	r.desk, r.known, r.moves = notice.NewDesk(nil), map[int64]store.Fault{}, map[int64]moved{}
	since := r.Now().Add(-rememberFor)
	told, err := r.store.ToldSince(ctx, since)
	if err != nil {
		return fmt.Errorf("read what was told: %w", err)
	}
	for _, i := range told {
		r.desk.Note(notice.Due{To: i.To, Items: []notice.Item{i.Item}}, i.At)
	}
	list, err := r.store.Faults(ctx, store.FaultFilter{Since: since, Limit: 1 << 20})
	if err != nil {
		return fmt.Errorf("read faults: %w", err)
	}
	for _, f := range list {
		r.known[f.ID] = f
	}
	if err := r.readRules(ctx); err != nil {
		return fmt.Errorf("read the rules of notices: %w", err)
	}
	r.stale = false
	if !r.tells(notice.Moves) {
		return nil
	}
	return r.readMoves(ctx, since)
}

// moved is a move, with what the decision needs of it.
type moved struct {
	store.Move
	told notice.Move
}

// readMoves reads the moves since a moment of which somebody has yet to be told.
func (r *Room) readMoves(ctx context.Context, since time.Time) error {
	list, err := r.store.Moves(ctx, store.MoveFilter{Since: since, Limit: 1 << 20})
	if err != nil {
		return fmt.Errorf("read moves: %w", err)
	}
	for _, m := range list {
		if p, ok := r.record.Site(m.SiteID); ok {
			one := moved{m, notice.Move{ID: m.ID, Place: r.board.Place(p), At: m.Received}}
			if r.desk.AwaitsMove(one.told) {
				r.moves[m.ID] = one
			}
		}
	}
	return nil
}

// readRules reads rules and people again.
func (r *Room) readRules(ctx context.Context) error {
	rules, err := r.store.NoticeRules(ctx)
	if err != nil {
		return err
	}
	people, err := r.store.PeopleMail(ctx)
	if err != nil {
		return err
	}
	r.desk.Rules, r.zones = rules, map[string]*time.Location{}
	for _, p := range people {
		if l, err := time.LoadLocation(p.Zone); err == nil {
			r.zones["person "+p.Name] = l
		}
	}
	return nil
}

// Edited notes that rules or people were edited.
func (r *Room) Edited() {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.stale = true
}

// Run tells what is due until ctx ends.
func (r *Room) Run(ctx context.Context) {
	tick := rounds.Every(roundEvery)
	defer tick.Stop()
	r.sweep(ctx)
	for n := 0; ; n++ {
		if err := r.round(ctx, n%int(readEvery/roundEvery) == 0); err != nil && ctx.Err() == nil {
			r.Log.Warn("notices could not be written; trying again", "error", err)
		}
		if n%60 == 59 {
			r.sweep(ctx)
		}
		select {
		case <-tick.C:
			tick.Begun()
		case <-ctx.Done():
			return
		}
	}
}

// domain is the right side of the IDs of our mails.
func (r *Room) domain() string {
	a, err := mail.ParseAddress(r.Mail.From)
	if err != nil {
		return "inkpost.invalid"
	}
	return a.Address[strings.LastIndexByte(a.Address, '@')+1:]
}
