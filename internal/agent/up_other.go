//go:build !linux

package agent

import "time"

var began = time.Now()

// machineUp returns how long this program has run: what the machine says is not asked here.
func machineUp() time.Duration { return time.Since(began) }
