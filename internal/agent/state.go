package agent

import (
	"net/netip"
	"path/filepath"

	"inkpost.example/inkpost/internal/statefile"
)

// state is what an agent keeps between runs.
type state struct {
	Server       string  `json:"server"`
	Code         string  `json:"code,omitempty"` // the one-time code that the key is for; "" where an older version did not keep it
	Key          string  `json:"key"`
	Site         string  `json:"site"`
	Link         string  `json:"link"`
	CheckSeconds float64 `json:"check_seconds"`
	// Last is where the server's name led when it was last resolved.
	Last []netip.Addr `json:"last,omitempty"`
}

func claimFile(dir string) string { return filepath.Join(dir, "claim.json") }

func stateFile(dir string) string { return filepath.Join(dir, "agent.json") }

// Enrolled reports whether an agent has enrolled from this folder.
func Enrolled(dir string) bool { return statefile.Exists(stateFile(dir)) }

func readState(dir string) (state, error) { return statefile.ReadState[state](stateFile(dir)) }

// write keeps the state where only the agent's user can read it.
func (s state) write(dir string) error { return statefile.WriteState(stateFile(dir), s) }
