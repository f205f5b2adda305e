package demo

import (
	"context"
	"net/netip"
	"time"
)

// trouble is what is wrong at a site of the scenario when the demo starts.
type trouble struct {
	code  string
	words string // for people, with what stands in the console
	begin func(d *Demo, i int) error
}

// troubles shows what Ink Post is for: seven sites in trouble, each of another kind, beside three where all is well.
func troubles() []trouble {
	return []trouble{
		{"BAK-02", "the first link's line is dead, and names follow the second",
			func(d *Demo, _ int) error { return d.World.SetLink("BAK-02", "main", false) }},
		{"BIR-08", "the recorder has drifted to another LAN address", func(d *Demo, i int) error {
			return d.World.SetDevice("BIR-08", "hide-recorder", netip.AddrFrom4([4]byte{127, 201, byte(i + 1), 147}))
		}},
		{"BOA-09", "the recorder's playback service has stopped",
			func(d *Demo, _ int) error { return d.World.SetService("BOA-09", "playback", false) }},
		{"CLI-05", "the router's own page, which must stay closed, is open to everybody",
			func(d *Demo, _ int) error { return d.World.SetForward("CLI-05", "router-page", true) }},
		{"FER-11", "the provider shares one address among customers (carrier-grade NAT)",
			func(d *Demo, _ int) error { return d.World.SetForward("FER-11", "kiosk-shell", false) }},
		{"OYS-03", "the modem in front of the router passes nothing on (double NAT)", func(d *Demo, _ int) error {
			if err := d.World.SetForward("OYS-03", "tank-page", false); err != nil {
				return err
			}
			return d.World.SetForward("OYS-03", "tank-shell", false)
		}},
		{"RAD-06", "the club's server sleeps", func(d *Demo, _ int) error { return d.World.SetDevice("RAD-06", "attic", netip.Addr{}) }},
	}
}

// Trouble makes the scenario's sites be in trouble, or one of them where code is not empty. Errors: an unknown site, those of the lab.
func (d *Demo) Trouble(code string) error {
	for _, t := range troubles() {
		if code != "" && t.code != code {
			continue
		}
		for i, p := range places() {
			if p.code == t.code {
				if err := t.begin(d, i); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// Troubled lists the sites that are in trouble when the demo starts, by code, with what is wrong.
func Troubled() (out [][2]string) {
	for _, t := range troubles() {
		out = append(out, [2]string{t.code, t.words})
	}
	return out
}

// awaitAgents waits until every link's agent was heard: one whose line is dead before it enrolled is nobody's agent.
func (d *Demo) awaitAgents(ctx context.Context, list []place) error {
	ctx, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	tick := time.NewTicker(100 * time.Millisecond)
	defer tick.Stop()
	for _, p := range list {
		for _, l := range p.links {
			for !l.static {
				now, err := d.Engine().Link(p.code, l.label)
				if err != nil || now.Agent && now.Report != nil && !now.Report.Reported.IsZero() {
					break // somebody has removed it from the record, or it is there
				}
				select {
				case <-tick.C:
				case <-ctx.Done():
					return ctx.Err()
				}
			}
		}
	}
	return nil
}
