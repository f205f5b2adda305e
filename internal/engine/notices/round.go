package notices

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"inkpost.example/inkpost/internal/core/fault"
	"inkpost.example/inkpost/internal/core/notice"
	"inkpost.example/inkpost/internal/engine/faults"
	"inkpost.example/inkpost/internal/store"
)

// round writes down what is due now, and has it delivered.
func (r *Room) round(ctx context.Context, read bool) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	now := r.Now()
	if read || r.stale {
		if err := r.readRules(ctx); err != nil {
			return err
		}
		r.stale = false
	}
	if read && r.tells(notice.Moves) {
		if err := r.readMoves(ctx, now.Add(-time.Minute)); err != nil {
			return err
		}
	}
	for _, f := range r.board.Recent() {
		if f.ID != 0 {
			r.known[f.ID] = f.Fault
		}
	}
	r.forget(now)
	if len(r.desk.Rules) == 0 {
		return nil
	}
	for _, due := range r.desk.Round(r.facts(r.known, now), r.waiting(), now) {
		if err := r.write(ctx, due, now); err != nil {
			return err
		}
	}
	return r.digests(ctx, now)
}

func (r *Room) tells(topic notice.Topic) bool {
	return slices.ContainsFunc(r.desk.Rules, func(rule notice.Rule) bool { return rule.Topic == topic })
}

// forget drops what nobody has to be told of any more.
func (r *Room) forget(now time.Time) {
	before, still := now.Add(-rememberFor), map[int64]bool{}
	for id, f := range r.known {
		_, there := r.record.Site(f.SiteID)
		lasts := f.Closed.IsZero() || f.Closed.After(before) && r.desk.Awaits(id)
		if still[id] = lasts && (there || f.SiteID == 0); !still[id] {
			delete(r.known, id)
		}
	}
	for id, m := range r.moves {
		if m.Received.Before(before) || !r.desk.AwaitsMove(m.told) {
			delete(r.moves, id)
		}
	}
	r.desk.Forget(before, still)
}

// facts are what the decision needs of faults.
func (r *Room) facts(known map[int64]store.Fault, now time.Time) []notice.Fault {
	work := r.board.Work()
	out := make([]notice.Fault, 0, len(known))
	under := map[int64][]fault.Place{}
	for _, f := range known {
		if f.Under != 0 {
			under[f.Under] = append(under[f.Under], r.board.PlaceOf(faults.Fault{Fault: f}))
		}
	}
	for _, id := range slices.Sorted(maps.Keys(known)) {
		f := known[id]
		one := notice.Fault{ID: id, Place: r.board.PlaceOf(faults.Fault{Fault: f}), Under: under[id], Cause: f.Finding.Cause,
			Serious: f.Finding.Serious(),
			Opened:  f.Opened, Closed: f.Closed, Turned: f.Turned, Returns: f.Returns, Explained: f.Under != 0,
			Acknowledged: !f.Taken.Acknowledged.IsZero()}
		_, _, one.Planned = fault.Planned(work, one.Place, now)
		out = append(out, one)
	}
	return out
}

// waiting are the moves of which somebody has yet to be told.
func (r *Room) waiting() []notice.Move {
	out := make([]notice.Move, 0, len(r.moves))
	for _, id := range slices.Sorted(maps.Keys(r.moves)) {
		out = append(out, r.moves[id].told)
	}
	return out
}

// write writes one notice down.
func (r *Room) write(ctx context.Context, due notice.Due, now time.Time) error {
	parts, items := make([]notice.Content, len(due.Items)), make([]store.NoticeItem, len(due.Items))
	for i, item := range due.Items {
		parts[i] = r.content(due.To, item, now)
		items[i] = store.NoticeItem{Key: r.key(due.To, item), Item: item}
	}
	c := parts[0]
	if len(parts) > 1 {
		c = notice.Together(parts, now)
	}
	return r.add(ctx, due, c, items, now)
}

func (r *Room) add(ctx context.Context, due notice.Due, c notice.Content, items []store.NoticeItem, now time.Time) error {
	ids, err := r.store.AddNotice(ctx, store.Notice{To: due.To, Content: c, Decided: now}, due.Ways, items)
	var taken store.Taken
	if errors.As(err, &taken) { // an answer of the database got lost: some of it was told, and the next round tells the rest
		return r.recall(ctx)
	}
	if err != nil {
		return err
	}
	r.desk.Note(due, now)
	r.deliver(ctx, ids)
	return nil
}

// key is the same for one thing that is told to one recipient: what of a fault comes after so much that was told of it, or a move.
func (r *Room) key(to string, i notice.Item) string {
	if i.MoveID != 0 {
		return fmt.Sprintf("move %d", i.MoveID)
	}
	return fmt.Sprintf("fault %d %d", i.FaultID, r.desk.Times(to, i.FaultID))
}

func (r *Room) content(to string, i notice.Item, now time.Time) notice.Content {
	zone := r.zoneOf(to, i.Rule)
	if i.MoveID != 0 {
		return notice.OfMove(r.moveWords(r.moves[i.MoveID].Move, zone, i.Rule.Subject), now)
	}
	f := r.known[i.FaultID]
	w := r.faultWords(f, zone)
	w.What, w.Template, w.PreviouslyTold = i.What, i.Rule.Subject, i.Before
	return notice.OfFault(w, now)
}

func (r *Room) zoneOf(to string, rule notice.Rule) *time.Location {
	if rule.Hours.Zone != "" {
		if l, err := time.LoadLocation(rule.Hours.Zone); err == nil {
			return l
		}
	}
	return cmp.Or(r.zones[to], time.UTC)
}

func (r *Room) faultWords(f store.Fault, zone *time.Location) notice.Words {
	w := notice.Words{FaultID: f.ID, Finding: f.Finding, Began: f.Began, Opened: f.Opened, Closed: f.Closed, Returns: f.Returns,
		Assigned: f.Taken.Assigned, Provider: fault.ProviderOf(f.Finding.Subject), Zone: zone}
	if p, ok := r.record.Site(f.SiteID); ok {
		w.Site, w.SiteName, w.Provider = p.Code, p.Name, r.board.Provider(f)
	}
	if f.SiteID == 0 {
		for _, one := range r.known {
			if one.Under == f.ID {
				w.Sites++
			}
		}
	}
	return w
}

func (r *Room) moveWords(m store.Move, zone *time.Location, template string) notice.MoveWords {
	w := notice.MoveWords{MoveID: m.ID, Old: m.Old.String(), New: m.New.String(), At: m.Received, Zone: zone, Template: template}
	if !m.Old.Known() {
		w.Old = ""
	}
	if p, ok := r.record.Site(m.SiteID); ok {
		w.Site, w.SiteName = p.Code, p.Name
		for l := range p.EachLink() {
			if l.ID == m.LinkID {
				w.Link, w.Provider = l.Label, l.Provider
			}
		}
		for _, h := range p.Following(map[int64]bool{m.LinkID: true}) {
			w.Hostnames = append(w.Hostnames, string(h.Name))
		}
	}
	return w
}

// digests writes down the digests that are due.
func (r *Room) digests(ctx context.Context, now time.Time) error {
	for _, rule := range r.desk.Rules {
		if rule.Topic != notice.Daily && rule.Topic != notice.Weekly {
			continue
		}
		of, ok := rule.Due(cmp.Or(r.desk.LastDigest(rule), rule.Created), now)
		if !ok {
			continue
		}
		due := notice.Due{To: rule.To(), Ways: notice.WaysOf(rule), Items: []notice.Item{{What: notice.Digest, Rule: rule}}}
		key := fmt.Sprintf("digest %d %s", rule.ID, of.UTC().Format(time.RFC3339))
		c, err := r.digest(ctx, rule, of, now)
		if err != nil {
			return err
		}
		if err := r.add(ctx, due, c, []store.NoticeItem{{Key: key, Item: due.Items[0]}}, now); err != nil {
			return err
		}
	}
	return nil
}

// digest puts a day or a week together, from the database.
func (r *Room) digest(ctx context.Context, rule notice.Rule, of, now time.Time) (c notice.Content, err error) {
	zone := r.zoneOf(rule.To(), rule)
	s := notice.Summary{From: rule.Back(of), Until: of, Zone: zone}
	covered := rule
	covered.Topic = notice.Faults
	list, err := r.store.Faults(ctx, store.FaultFilter{Since: s.From, Limit: 1 << 20})
	if err != nil {
		return c, err
	}
	known := map[int64]store.Fault{}
	for _, f := range list {
		known[f.ID] = f
	}
	for _, f := range r.facts(known, now) {
		if !covered.Covers(f) || f.Explained && rule.Sight.All() || f.Opened.After(of) {
			continue
		}
		w := r.faultWords(known[f.ID], zone)
		switch {
		case f.Closed.IsZero() || f.Closed.After(of):
			w.What = notice.Opened
			s.Open = append(s.Open, notice.OfFault(w, now))
		case f.Closed.After(s.From):
			w.What = notice.Over
			s.Mended = append(s.Mended, notice.OfFault(w, now))
		}
	}
	slices.SortStableFunc(s.Open, func(a, b notice.Content) int {
		if a.Serious == b.Serious {
			return 0
		} else if a.Serious {
			return -1
		}
		return 1
	})
	moves, err := r.store.Moves(ctx, store.MoveFilter{Since: s.From, Until: of, Limit: 1 << 20})
	if err != nil {
		return c, err
	}
	for _, m := range moves {
		if p, ok := r.record.Site(m.SiteID); ok && rule.Within(r.board.Place(p)) {
			s.Moves = append(s.Moves, notice.OfMove(r.moveWords(m, zone, ""), now))
		}
	}
	for _, e := range r.host.Expiring(now.Add(expiringWithin)) {
		if p, ok := r.record.Site(e.SiteID); ok && rule.Within(r.board.Place(p)) {
			s.Expiring = append(s.Expiring, e)
		}
	}
	return notice.OfDigest(s, now), nil
}

// expiringWithin is how far ahead a digest says what ends.
const expiringWithin = 14 * 24 * time.Hour
