package moves

import (
	"slices"

	"inkpost.example/inkpost/internal/store"
)

// Labels names the site and link of a move; ok is false for a link that is no longer on record.
type Labels func(linkID int64) (site, link string, ok bool)

// With completes a list of moves that was read from the table, newest first, with those that are not in it yet and with the stages
// that are not: reading waits for no write.
func (m *Moves) With(list []store.Move, f store.MoveFilter, labels Labels) []store.Move {
	changes, stages := m.journal.waiting()
	there := make(map[int64]int, len(list))
	for i, one := range list {
		there[one.ID] = i
	}
	var newer []store.Move
	for _, group := range changes {
		for _, c := range group {
			if _, known := there[c.ID]; known {
				continue
			}
			one := store.Move{ID: c.ID, SiteID: c.SiteID, LinkID: c.LinkID, Old: c.Old, New: c.New, Source: c.Source,
				Noticed: c.Noticed, Received: c.Received}
			var ok bool
			if one.Site, one.Link, ok = labels(c.LinkID); ok && f.Takes(one) {
				newer = append(newer, one)
			}
		}
	}
	list = append(newer, list...)
	slices.SortFunc(list, func(a, b store.Move) int { return int(b.ID - a.ID) })
	list = slices.CompactFunc(list, func(a, b store.Move) bool { return a.ID == b.ID })
	at := make(map[int64]int, len(list))
	for i, one := range list {
		at[one.ID] = i
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
