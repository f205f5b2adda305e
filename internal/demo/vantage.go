package demo

import (
	"context"
	"maps"
	"net/netip"
	"path/filepath"
	"slices"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/vantage"
)

// The demo's second vantage point looks from an address of its own.
const (
	harbour   = "harbour"
	harbourAt = "127.203.0.9"
)

// introduce has each simulated WireGuard server know the probe keys of all vantage points as peers', as an installer would type
// them in.
func (d *Demo) introduce(list []place) error {
	for _, p := range list {
		for _, m := range p.devices {
			for _, s := range m.services {
				if s.kind != probe.KindWireGuard {
					continue
				}
				now, err := d.Engine().Service(p.code, s.name)
				if err != nil {
					continue // somebody has removed it from the record
				}
				var keys []byte
				for _, text := range append([]string{now.PeerKey}, slices.Collect(maps.Values(now.PeerKeys))...) {
					key, err := probe.WireGuardKey(text)
					if err != nil {
						return err
					}
					keys = append(keys, key...)
				}
				if err := d.World.Know(p.code, s.name, keys); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

func (d *Demo) startVantage(ctx, run context.Context, o Options) error {
	options := vantage.Options{Server: d.URL, StateDir: filepath.Join(o.Dir, "agents", "vantage-"+harbour),
		From: netip.MustParseAddr(harbourAt), Version: o.Version, Log: o.Log}
	if !vantage.Enrolled(options.StateDir) {
		inv, err := d.Engine().InviteVantage(ctx, contract.VantageInput{Name: harbour, Note: "Harbour office, over Gannet Mobile"})
		if err != nil {
			return err
		}
		options.Code = inv.Code
	}
	d.agents.Go(func() {
		if err := vantage.Run(run, options); err != nil && run.Err() == nil {
			options.Log.Error("vantage point ended", "error", err)
		}
	})
	return nil
}
