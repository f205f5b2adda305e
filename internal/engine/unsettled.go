package engine

import (
	"slices"

	"inkpost.example/inkpost/internal/store"
)

// withUnsettled adds to a list of moves, the newest first, those that are accepted and not in their table yet, and the stages that
// are not: reading waits for no write.
func (e *Engine) withUnsettled(list []store.Move, f store.MoveFilter) []store.Move {
	changes, stages := e.unsettled.waiting()
	there := make(map[int64]int, len(list))
	for i, m := range list {
		there[m.ID] = i
	}
	var newer []store.Move
	for _, group := range changes {
		for _, c := range group {
			if _, known := there[c.ID]; known {
				continue
			}
			m := store.Move{ID: c.ID, SiteID: c.SiteID, LinkID: c.LinkID, Old: c.Old, New: c.New, Source: c.Source, Noticed: c.Noticed, Received: c.Received}
			p, l, ok := e.record.ofLink(c.LinkID)
			if m.Site, m.Link = p.Code, l.Label; ok && f.Takes(m) {
				newer = append(newer, m)
			}
		}
	}
	list = append(newer, list...)
	slices.SortFunc(list, func(a, b store.Move) int { return int(b.ID - a.ID) })
	list = slices.CompactFunc(list, func(a, b store.Move) bool { return a.ID == b.ID })
	at := make(map[int64]int, len(list))
	for i, m := range list {
		at[m.ID] = i
	}
	for _, s := range stages {
		if i, ok := at[s.MoveID]; ok {
			list[i] = list[i].With(s)
		}
	}
	if f.Unfinished {
		list = slices.DeleteFunc(list, func(m store.Move) bool { return !m.Confirmed.IsZero() })
	}
	return list[:min(len(list), f.Limit)]
}
