package changes

import (
	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/engine/record"
	"inkpost.example/inkpost/internal/engine/zones"
)

// Apply makes everything that follows the record follow a change of it. The caller holds the edit lock. Error: a record that cannot be
// encoded.
func (ch *Changes) Apply(d record.Diff) error {
	if err := ch.Zones.Apply(d); err != nil {
		return err
	}
	ch.pushChanged(d)
	ch.noteAnswers(d)
	ch.forget(d.Gone())
	ch.Prober.Apply(d)
	if d.Whole {
		ch.Vantages.AssignmentsChanged(0)
		ch.SiteSide.WakeAllAgents()
		return nil
	}
	for _, c := range d.Sites {
		id := c.Before.ID | c.After.ID
		ch.Vantages.AssignmentsChanged(id)
		ch.SiteSide.WakeAgents(id)
	}
	return nil
}

// Mirror is Apply for a standby: it follows what the writer wrote, pushes nothing and wakes no agent.
func (ch *Changes) Mirror(d record.Diff) error {
	if err := ch.Zones.Apply(d); err != nil {
		return err
	}
	ch.forget(d.Gone())
	ch.Prober.Apply(d)
	return nil
}

// pushChanged queues the names of remote zones at which records differ.
func (ch *Changes) pushChanged(d record.Diff) {
	for _, c := range d.Zones {
		if c.After.Kind != names.Remote {
			continue
		}
		if d.Whole || c.Before.Tag() != c.After.Tag() || c.Before.Pushing != c.After.Pushing {
			ch.Push.Due(c.After, false)
			continue
		}
		for _, name := range d.Names(c.After.ID) {
			if c.After.Pushing {
				ch.Push.Add(c.After.ID, name)
			}
		}
	}
}

// Publish sets the answers of those hostnames of some sites that were touched, and queues those of remote zones to be pushed. Error: a zone
// that is not hosted, a record that cannot be encoded.
func (ch *Changes) Publish(changed []record.Site, touched zones.Touched, serials map[int64]uint32) error {
	if err := ch.Zones.Publish(changed, touched, serials); err != nil {
		return err
	}
	for _, p := range changed {
		for _, h := range touched(p) {
			if z := ch.Record.Zone(h.ZoneID); z.Kind == names.Remote && z.Pushing {
				for _, name := range h.Owners() {
					ch.Push.Add(z.ID, name)
				}
			}
		}
	}
	return nil
}

// noteAnswers notes which hostnames answer otherwise than before: for those, caches have to run out first.
func (ch *Changes) noteAnswers(d record.Diff) {
	now := ch.Now()
	for _, c := range d.Sites {
		before := make(map[int64]wan.Pair, len(c.Before.Hostnames))
		for _, h := range c.Before.Hostnames {
			before[h.ID] = c.Before.AnswerOf(h)
		}
		for _, h := range c.After.Hostnames {
			if was, there := before[h.ID]; !there || was != c.After.AnswerOf(h) {
				ch.Verify.Published(h.ID, now)
			}
		}
	}
}
