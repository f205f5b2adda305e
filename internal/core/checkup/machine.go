package checkup

import (
	"fmt"
	"time"
)

// Base is what was found of the database. Trouble says why it does not answer.
type Base struct {
	Trouble      string
	Took         time.Duration // for the simplest of statements
	Version      string
	Octets       uint64
	Used, Most   int   // connections
	Has, Known   int64 // schema
	Writer       string
	Since        time.Time     // since when that one writes
	Folder       string        // where it keeps its data; "" if that is not told, or on another machine
	Offset       time.Duration // of its clock from ours
	Sealed       bool          // secrets are not stored as they are
	Backup       time.Time     // when the newest was made; zero for none
	BackupOctets uint64
}

const (
	slowBase  = 200 * time.Millisecond
	fullShare = 0.9
)

// Judge says how the database stands.
func (b Base) Judge() []Point {
	if b.Trouble != "" {
		return []Point{Database.not(Wrong, "answers", "start PostgreSQL, or mend --database-url; agents repeat what was not taken",
			"it does not answer: %s", b.Trouble)}
	}
	out := []Point{Database.good("answers", "PostgreSQL %s answers in %s; %s on disk", b.Version, span(b.Took), size(b.Octets))}
	if b.Took > slowBase {
		out[0] = Database.not(Attention, "answers", "look at the load of its machine, and at how far away it is",
			"PostgreSQL %s takes %s for the simplest of statements", b.Version, span(b.Took))
	}
	connections := Database.good("connections", "%d of %d are in use", b.Used, b.Most)
	if b.Most > 0 && float64(b.Used) > fullShare*float64(b.Most) {
		connections = Database.not(Attention, "connections", "raise max_connections in postgresql.conf, or find out who holds them: "+
			"SELECT * FROM pg_stat_activity", "%d of %d are in use", b.Used, b.Most)
	}
	schema := Database.good("schema", "%d, as this program knows it", b.Has)
	switch {
	case b.Has > b.Known:
		schema = Database.not(Wrong, "schema", "run the newer inkpost that has used it", "%d, and this program knows up to %d", b.Has,
			b.Known)
	case b.Has < b.Known:
		schema = Database.not(Wrong, "schema", "start inkpost serve of this version; it brings the schema up to date",
			"%d, and this program needs %d", b.Has, b.Known)
	}
	writer := Database.good("writer", "%s has written since %s", b.Writer, b.Since.UTC().Format("2 Jan 2006 15:04 UTC"))
	if b.Writer == "" {
		writer = Database.not(Wrong, "writer", "start inkpost serve", "no server writes")
	}
	secrets := Database.good("secrets", "they are sealed: whoever has a copy of the database alone cannot read them")
	if !b.Sealed {
		secrets = Database.not(Attention, "secrets", "inkpost secrets-key FILE, and inkpost serve --secrets-key FILE",
			"those of signing keys, webhooks and authenticators are stored as they are")
	}
	return append(out, connections, schema, writer, secrets)
}

// Volume is a file system that something of the service is kept on.
type Volume struct {
	Use, Path  string // what for, and where
	Free, Size uint64 // octets
	Trouble    string
}

// Shares and octets of a file system below which it is nearly full, or as good as full.
const (
	lowShare, lowOctets   = 0.10, 1 << 30
	leastShare, leastOcts = 0.02, 200 << 20
)

// Judge says how the file system stands.
func (v Volume) Judge() Point {
	name := v.Use
	if v.Trouble != "" {
		return Disk.not(Wrong, name, "make the folder, and let the service's user write there", "%s: %s", v.Path, v.Trouble)
	}
	seen := fmt.Sprintf("%s free of %s at %s", size(v.Free), size(v.Size), v.Path)
	share := float64(v.Free) / float64(max(v.Size, 1))
	switch {
	case share < leastShare || v.Free < leastOcts:
		return Disk.not(Wrong, name, "make room now: a full disk stops every change", "%s", seen)
	case share < lowShare && v.Free < 20*lowOctets || v.Free < lowOctets:
		return Disk.not(Attention, name, "make room, or keep history for a shorter time", "%s", seen)
	}
	return Disk.good(name, "%s", seen)
}

// Time is what was found of clocks.
type Time struct {
	Synced, Told bool          // whether the kernel says that its clock follows a time server, and whether it says anything
	Error        time.Duration // by how much it may be wrong, by its own estimate
	Offset       time.Duration // of the database's clock from ours
	BaseThere    bool
}

// maxOffset is by how much clocks may differ before times are not believed.
const maxOffset = 2 * time.Second

// Judge says how the clocks stand.
func (t Time) Judge() []Point {
	own := Clock.good("time server", "the machine's clock follows a time server, to within %s", span(t.Error))
	switch {
	case !t.Told:
		own = Clock.not(Untried, "time server", "", "the kernel does not say whether its clock follows a time server")
	case !t.Synced:
		own = Clock.not(Attention, "time server", "let the clock follow a time server: timedatectl set-ntp true, or chrony",
			"the machine's clock follows no time server, by what its kernel says")
	}
	out := []Point{own}
	if !t.BaseThere {
		return out
	}
	if t.Offset.Abs() > maxOffset {
		return append(out, Clock.not(Wrong, "database", "set both clocks by a time server",
			"the database's clock differs from this machine's by %s", span(t.Offset)))
	}
	return append(out, Clock.good("database", "its clock and this machine's agree to within %s", span(t.Offset)))
}

// How old the newest backup may be.
const (
	oldBackup     = 8 * 24 * time.Hour
	veryOldBackup = 31 * 24 * time.Hour
)

// JudgeBackup says how old the newest backup is.
func (b Base) JudgeBackup(now time.Time) Point {
	const fix = "make one, and let a timer make one each night: inkpost backup FILE, or systemctl enable --now inkpost-backup.timer"
	age := now.Sub(b.Backup)
	switch {
	case b.Backup.IsZero():
		return Backup.not(Wrong, "newest", fix, "none was ever made by inkpost backup")
	case age > veryOldBackup:
		return Backup.not(Wrong, "newest", fix, "the newest is %s old", span(age))
	case age > oldBackup:
		return Backup.not(Attention, "newest", fix, "the newest is %s old", span(age))
	}
	return Backup.good("newest", "the newest is %s old, %s", span(age), size(b.BackupOctets))
}
