package daemon

import (
	"bytes"
	"compress/gzip"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"inkpost.example/inkpost/internal/statefile"
	"inkpost.example/inkpost/internal/wire/authdns"
)

// The copy of the zones on this machine's disk: what is answered while the database has not been there since the start, and how a
// database that was restored from an older dump is found out. Its first line has the hash of the rest.
const (
	copyName  = "zones.copy"
	copyHead  = "inkpost zones 1 sha256:"
	copyEvery = 2 * time.Second // how soon a change is in the copy
)

// zoneCopy is the copy's file; "" keeps none.
type zoneCopy string

func copyIn(stateDir string) zoneCopy {
	if stateDir == "" {
		return ""
	}
	return zoneCopy(filepath.Join(stateDir, copyName))
}

// write writes the zones as they are, whole or not at all.
func (c zoneCopy) write(zones []*authdns.Zone) error {
	var body bytes.Buffer
	packed := gzip.NewWriter(&body)
	if err := authdns.WriteCopy(packed, zones); err != nil {
		return err
	}
	if err := packed.Close(); err != nil {
		return err
	}
	sum := sha256.Sum256(body.Bytes())
	return statefile.Write(string(c), append([]byte(copyHead+hex.EncodeToString(sum[:])+"\n"), body.Bytes()...))
}

// read reads the zones of the copy. Error: fs.ErrNotExist if there is none.
func (c zoneCopy) read() ([]*authdns.Zone, error) {
	if c == "" {
		return nil, os.ErrNotExist
	}
	text, err := os.ReadFile(string(c))
	if err != nil {
		return nil, err
	}
	head, body, _ := bytes.Cut(text, []byte("\n"))
	sum := sha256.Sum256(body)
	if string(head) != copyHead+hex.EncodeToString(sum[:]) {
		return nil, fmt.Errorf("%s is damaged, and is not used", c)
	}
	packed, err := gzip.NewReader(bytes.NewReader(body))
	if err != nil {
		return nil, fmt.Errorf("%s: %w", c, err)
	}
	zones, err := authdns.ReadCopy(io.LimitReader(packed, 1<<31))
	if err != nil {
		return nil, fmt.Errorf("%s: %w", c, err)
	}
	return zones, nil
}

// serials returns the serial of each zone, by apex without the final dot.
func serials(zones []*authdns.Zone) map[string]uint32 {
	out := map[string]uint32{}
	for _, z := range zones {
		out[strings.TrimSuffix(z.Apex(), ".")] = z.Serial()
	}
	return out
}

// answerFromCopy has names answered from the copy until the database is there.
func (d *Daemon) answerFromCopy() {
	zones, err := d.copy.read()
	if errors.Is(err, os.ErrNotExist) {
		d.log.Warn("there is no copy of the zones on this machine: no name is answered until the database is there")
		return
	}
	if err != nil {
		d.log.Error("no name is answered until the database is there", "error", err)
		return
	}
	for _, z := range zones {
		d.directory.Put(z)
		d.log.Warn("a zone is answered from the copy on disk", "zone", z.Apex(), "serial", z.Serial())
	}
}

// keepCopy keeps the copy in line with what is answered until ctx ends.
func (d *Daemon) keepCopy(ctx context.Context) {
	if d.copy == "" {
		return
	}
	tick := time.NewTicker(copyEvery)
	defer tick.Stop()
	var last string
	for end := false; !end; {
		select {
		case <-tick.C:
		case <-ctx.Done():
			end = true
		}
		if d.Engine() == nil { // what is answered comes from the copy
			continue
		}
		zones := d.directory.Zones()
		is := fmt.Sprint(serials(zones)) // maps are printed in order
		if is == last {
			continue
		}
		if err := d.copy.write(zones); err != nil {
			d.log.Warn("the copy of the zones on disk is not up to date; trying again", "error", err)
			continue
		}
		last = is
	}
}
