package agent

import (
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"time"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/statefile"
)

// Status is what an agent knows, for people at the site.
type Status struct {
	Site       string                  `json:"site"`
	Link       string                  `json:"link"`
	Server     string                  `json:"server"`
	Version    string                  `json:"version,omitempty"`
	Started    time.Time               `json:"started"`
	Told       time.Time               `json:"told,omitzero"` // when the server was told last
	Answer     contract.Receipt        `json:"answer"`        // what it answered
	Trouble    string                  `json:"trouble,omitempty"`
	Resolver   string                  `json:"resolver,omitempty"`
	Sources    []contract.SourceReport `json:"sources,omitempty"`
	LAN        []contract.DeviceReport `json:"lan,omitempty"`
	LANTrouble string                  `json:"lan_trouble,omitempty"`
	Written    time.Time               `json:"written"`
}

const statusFile = "status.json"

// tellStatus changes what status shows, and saves it. A failure, on a full disk perhaps, stops nothing.
func (r *runner) tellStatus(edit func(*Status)) {
	r.mu.Lock()
	edit(&r.status)
	r.status.Written = r.o.Now()
	doc, err := json.MarshalIndent(r.status, "", "  ")
	r.mu.Unlock()
	if err == nil {
		err = statefile.Write(filepath.Join(r.dir, statusFile), doc)
	}
	if err != nil {
		r.log.Warn("the status file cannot be written; the agent goes on", "error", err)
	}
}

// ReadStatus returns the status of each link of the agent that keeps its state in dir. Errors: those of statefile.ReadState.
func ReadStatus(dir string) ([]Status, error) {
	files, err := filepath.Glob(filepath.Join(dir, statusFile))
	if err == nil {
		var more []string
		more, err = filepath.Glob(filepath.Join(dir, "*", statusFile))
		files = append(files, more...)
	}
	if err != nil {
		return nil, err
	}
	var out []Status
	for _, f := range files {
		doc, err := os.ReadFile(f)
		if err != nil {
			return nil, err
		}
		var s Status
		if err := json.Unmarshal(doc, &s); err != nil {
			return nil, fmt.Errorf("%s cannot be read: %w; the agent writes it again while it runs", f, err)
		}
		out = append(out, s)
	}
	if len(out) == 0 {
		return nil, fmt.Errorf("no agent has run with its state in %s; give --state, or start it: inkpost agent run", dir)
	}
	return out, nil
}

func keyHash(key string) []byte {
	sum := sha256.Sum256([]byte(key))
	return sum[:]
}

func hostOf(server string) string {
	u, err := url.Parse(server)
	if err != nil {
		return ""
	}
	return u.Hostname()
}
