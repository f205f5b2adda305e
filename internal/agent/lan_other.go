//go:build !linux

package agent

import "context"

// Neighbours implements LAN.
func (SystemLAN) Neighbours(context.Context) ([]Neighbour, error) { return nil, nil }

// Cannot implements LAN.
func (SystemLAN) Cannot() []string {
	return []string{"see by MAC whether a device has another LAN address: this system's neighbour table is not read"}
}
