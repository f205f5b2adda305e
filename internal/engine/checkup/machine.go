package checkup

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"inkpost.example/inkpost/internal/core/checkup"
)

func (r *Room) machine(ctx context.Context) []checkup.Point {
	return Machine(r.Store.Checkup(ctx), r.Installation.StateDir, r.Now())
}

// Machine judges the database, the disks of this machine, the clocks and the backup, by what was found of the database.
func Machine(base checkup.Base, stateDir string, now time.Time) []checkup.Point {
	out := base.Judge()
	if stateDir != "" {
		out = append(out, volume("copy of the zones", stateDir).Judge())
	}
	if base.Folder != "" {
		out = append(out, volume("database", base.Folder).Judge())
	}
	t := clock()
	t.Offset, t.BaseThere = base.Offset, base.Trouble == ""
	out = append(out, t.Judge()...)
	if base.Trouble == "" && base.Has == base.Known {
		out = append(out, base.JudgeBackup(now))
	}
	return out
}

// volume measures the file system of a folder. One that may not be looked into is measured by the folder above it.
func volume(use, path string) checkup.Volume {
	v := checkup.Volume{Use: use, Path: path}
	at := path
	_, err := os.Stat(at)
	for errors.Is(err, fs.ErrPermission) && at != filepath.Dir(at) {
		at = filepath.Dir(at)
		_, err = os.Stat(at)
	}
	if err == nil {
		v.Free, v.Size, err = room(at)
	}
	if err != nil {
		v.Trouble = err.Error()
	}
	return v
}
