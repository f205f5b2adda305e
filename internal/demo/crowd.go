package demo

import (
	"context"
	"fmt"
	"math/rand/v2"
	"time"

	"inkpost.example/inkpost/internal/core/declare"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/declared"
	"inkpost.example/inkpost/internal/lab"
)

// A demo with many sites has, beside those of the scenario, a crowd of plain ones: a static address each, a recorder with five services,
// and a year's past. At every fortieth site a service is recorded on a port on which nothing listens.
const (
	crowdDays    = 365
	crowdSeconds = 300 // between probes
	crowdStopped = 40
	crowdLives   = 8 // made-up pasts, which the services of the crowd share
)

var crowdServices = []struct {
	name string
	port int
}{{"panel", 18443}, {"playback", 18554}, {"shell", 18022}, {"page", 18080}, {"data", 18090}}

var crowdPlaces = []struct{ code, name, tag string }{{"KETTLE-EAST", "Kettle East", "east"}, {"KETTLE-WEST", "Kettle West", "west"},
	{"FERRY-REACH", "Ferry Reach", "ferry"}, {"OYSTER-BANK", "Oyster Bank", "bank"}, {"GULL-POINT", "Gull Point", "point"}}

var crowdHouses = []string{"Boathouse", "Net Loft", "Tea Room", "Surgery", "Smokehouse", "Pump House", "School Hall", "Chandlery",
	"Saltworks",
	"Post Office"}

// openCrowd has the services of a crowd answer.
func (d *Demo) openCrowd() (err error) {
	var ports []int
	for _, s := range crowdServices {
		ports = append(ports, s.port)
	}
	d.crowd, err = lab.NewCrowd(ports)
	return err
}

// seedCrowd puts n further sites on record.
func (d *Demo) seedCrowd(ctx context.Context, n int, say func(string, ...any)) error {
	say("recording %d further sites with %d services", n, n*len(crowdServices))
	var items []declare.Item
	for i := range n {
		at := crowdPlaces[i%len(crowdPlaces)]
		code := fmt.Sprintf("%s-%03d", at.code, i/len(crowdPlaces)+1)
		house := crowdHouses[i/len(crowdPlaces)%len(crowdHouses)]
		add := func(kind declare.Kind, name string, fields map[string]any) {
			fields[kind.Key()] = name
			items = append(items, declare.Item{Kind: kind, Site: code, Name: name, Fields: fields})
		}
		add(declare.Site, code, map[string]any{"name": fmt.Sprintf("%s, %s %d", house, at.name, i/len(crowdPlaces)+1),
			"tags": []string{at.tag}})
		add(declare.Link, "main", map[string]any{"provider": []string{"Kettle Cable", "Islenet Fibre"}[i%2], "mode": "static",
			"ipv4": lab.CrowdAddress(i).String()})
		add(declare.Device, "recorder", map[string]any{"mac": fmt.Sprintf("02:00:5e:f0:%02x:%02x", i>>8, i&255),
			"lan_address": "192.168.1.20",
			"reserved":    true})
		for k, s := range crowdServices {
			port := s.port
			if i%crowdStopped == 0 && k == 0 {
				port++
			}
			add(declare.Service, s.name, map[string]any{"device": "recorder", "kind": "tcp", "external": fmt.Sprint(port), "in_use": true,
				"interval_seconds": crowdSeconds})
		}
	}
	if _, err := d.Engine().Declared.Declare(ctx, items, declare.Scope{}, declared.How{}); err != nil {
		return err
	}
	return d.crowdPast(ctx, say)
}

// crowdPast gives the services of the crowd a year.
func (d *Demo) crowdPast(ctx context.Context, say func(string, ...any)) error {
	vantage, err := d.Store().OwnVantage(ctx, "server", true)
	if err != nil {
		return err
	}
	all, err := d.Store().Services(ctx, 0)
	if err != nil {
		return err
	}
	var crowd []site.Service
	for _, s := range all {
		if s.Interval == crowdSeconds {
			crowd = append(crowd, s)
		}
	}
	end := time.Now().UTC().Add(-2 * pastEvery)
	if err := d.Store().EnsurePartitions(ctx, end); err != nil {
		return err
	}
	var lives []life
	like := make([][]int64, crowdLives)
	for i, s := range crowd {
		if i < crowdLives {
			lives = append(lives, lived(s, vantage, end, crowdDays, chance(fmt.Sprint("crowd", i)), steady))
			continue
		}
		like[i%crowdLives] = append(like[i%crowdLives], s.ID)
	}
	if err := put(ctx, d.Store(), lives); err != nil {
		return err
	}
	for n, ids := range like {
		if len(ids) > 0 {
			say("making up a year of %d services, part %d of %d", len(crowd), n+1, crowdLives)
		}
		for part := range chunks(ids, 100) {
			if err := d.Store().CopyHistory(ctx, crowd[n].ID, part); err != nil {
				return err
			}
		}
	}
	return d.Engine().Reload(ctx)
}

// chunks cuts a list into pieces of at most n.
func chunks(ids []int64, n int) func(func([]int64) bool) {
	return func(yield func([]int64) bool) {
		for len(ids) > 0 {
			part := ids[:min(n, len(ids))]
			if ids = ids[len(part):]; !yield(part) {
				return
			}
		}
	}
}

// steady is a service that fails now and then for an hour.
func steady(r *rand.Rand, _ site.Service) (probe.Outcome, int) {
	if r.IntN(4) == 0 {
		return probe.Silent, 1 + r.IntN(12)
	}
	return probe.Opened, 2000 + r.IntN(9000)
}
