// Package internal_test holds the house up: what each room may import stands in docs/architecture.md, and here.
package internal_test

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/require"
)

const house = "inkpost.example/inkpost/"

// rooms says which rooms of the house a room may import; those below a room are meant with it. A room that is not listed falls under
// the one that it is in. core is open to all.
var rooms = map[string][]string{
	"internal/core":            {},
	"internal/wire":            {"internal/wire"},
	"internal/access":          {"internal/access", "internal/store"},
	"internal/statefile":       {},
	"internal/contract":        {},
	"internal/paper":           {},
	"internal/paper/book":      {},
	"internal/store":           {"internal/store"},
	"internal/store/dump":      {},
	"internal/store/seal":      {},
	"internal/store/cluster":   {},
	"internal/engine/locks":    {},
	"internal/engine/rounds":   {},
	"internal/engine/counters": {},
	"internal/engine/events":   {"internal/contract", "internal/engine/locks"},
	"internal/engine/record":   {"internal/engine/locks", "internal/store", "internal/wire"},
	"internal/engine/moves": {"internal/engine/counters", "internal/engine/events", "internal/engine/locks", "internal/engine/record",
		"internal/store"},
	"internal/engine/history": {"internal/engine/rounds", "internal/engine/locks", "internal/engine/record", "internal/store"},
	"internal/engine/siteside": {"internal/engine/rounds", "internal/engine/events", "internal/engine/locks", "internal/engine/record",
		"internal/store"},
	"internal/engine/proofs": {"internal/contract", "internal/engine/events", "internal/engine/locks", "internal/engine/record",
		"internal/engine/siteside", "internal/store"},
	"internal/engine/faults": {"internal/engine/events", "internal/engine/locks", "internal/engine/record", "internal/store"},
	"internal/engine/commissioning": {"internal/engine/rounds", "internal/engine/events", "internal/engine/locks",
		"internal/engine/record", "internal/store"},
	"internal/engine/handover": append([]string{"internal/access", "internal/contract", "internal/engine/rooms", "internal/engine/views",
		"internal/store"}, stateful...),
	"internal/engine/jobs": {},
	"internal/engine/notices": {"internal/engine/rounds", "internal/engine/counters", "internal/engine/faults", "internal/engine/jobs",
		"internal/engine/record",
		"internal/store",
		"internal/wire"},
	"internal/engine/zones": {"internal/engine/rounds", "internal/engine/locks", "internal/engine/record", "internal/wire"},
	"internal/engine/verify": {"internal/engine/rounds", "internal/engine/events", "internal/engine/locks", "internal/engine/record",
		"internal/wire"},
	"internal/engine/push": {"internal/engine/rounds", "internal/engine/counters", "internal/engine/events", "internal/engine/jobs",
		"internal/engine/locks",
		"internal/engine/record",
		"internal/engine/zones", "internal/store", "internal/wire"},
	"internal/engine/probing/counts":     {"internal/engine/locks"},
	"internal/engine/probing/quarantine": {"internal/engine/locks"},
	"internal/engine/probing/workers":    {},
	"internal/engine/probing/ports":      {},
	"internal/engine/probing/seen":       {"internal/engine/probing/named", "internal/wire"},
	"internal/engine/probing/named":      {"internal/wire"},
	"internal/engine/probing/result": {"internal/engine/probing/named", "internal/engine/probing/seen", "internal/engine/record",
		"internal/wire"},
	"internal/engine/shards": {"internal/engine/locks"},
	"internal/engine/marks":  {"internal/engine/locks", "internal/engine/record"},
	"internal/engine/mirror": append([]string{"internal/engine/rooms", "internal/engine/marks", "internal/store", "internal/wire"},
		stateful...),
	"internal/engine/probing": {"internal/engine/rounds", "internal/engine/probing/counts",
		"internal/engine/probing/named", "internal/engine/probing/ports", "internal/engine/probing/quarantine",
		"internal/engine/probing/result", "internal/engine/probing/seen", "internal/engine/probing/workers",
		"internal/engine/events",
		"internal/engine/history",
		"internal/engine/locks",
		"internal/engine/record", "internal/store", "internal/wire"},
	"internal/engine/vantages": {"internal/engine/rounds", "internal/engine/history", "internal/engine/locks", "internal/engine/probing",
		"internal/engine/record", "internal/store", "internal/wire"},
	"internal/engine/rooms": append([]string{"internal/access", "internal/store", "internal/wire"}, stateful...),
	"internal/engine/views": append([]string{"internal/contract", "internal/engine/rooms", "internal/store", "internal/wire"},
		stateful...),
	"internal/engine/checkup": append([]string{"internal/contract", "internal/engine/rooms", "internal/engine/views", "internal/store",
		"internal/wire"}, stateful...),
	"internal/engine/standing": append([]string{"internal/contract", "internal/engine/rooms", "internal/engine/views", "internal/store"},
		stateful...),
	"internal/engine/errands": append([]string{"internal/contract", "internal/engine/rooms"}, stateful...),
	"internal/engine/changes": append([]string{"internal/engine/locks", "internal/engine/rooms", "internal/store"}, stateful...),
	"internal/engine/following": append([]string{"internal/engine/changes", "internal/engine/mirror", "internal/engine/rooms",
		"internal/store"}, stateful...),
	"internal/engine/faultedits": append([]string{"internal/contract", "internal/engine/rooms", "internal/engine/views",
		"internal/store"}, stateful...),
	"internal/engine/siteedits": append([]string{"internal/contract", "internal/engine/changes", "internal/engine/rooms",
		"internal/engine/views", "internal/store", "internal/wire"}, stateful...),
	"internal/engine/zoneedits": append([]string{"internal/access", "internal/contract", "internal/engine/changes",
		"internal/engine/rooms", "internal/engine/views", "internal/store", "internal/wire"}, stateful...),
	"internal/engine/noticeedits": append([]string{"internal/contract", "internal/engine/rooms", "internal/store", "internal/wire"},
		stateful...),
	"internal/engine/declared": append([]string{"internal/contract", "internal/engine/changes", "internal/engine/rooms",
		"internal/engine/siteedits", "internal/engine/zoneedits", "internal/store"}, stateful...),
	"internal/engine/removals": append([]string{"internal/contract", "internal/engine/changes", "internal/engine/rooms", "internal/store"},
		stateful...),
	"internal/engine/intake": append([]string{"internal/access", "internal/engine/changes", "internal/engine/rooms",
		"internal/engine/zoneedits", "internal/store", "internal/wire"}, stateful...),
	"internal/engine": {"internal/access", "internal/contract", "internal/engine", "internal/store", "internal/wire"},
	"internal/api": {"internal/access", "internal/contract", "internal/engine", "internal/paper", "internal/store",
		"internal/wire"},
	"internal/api/openapi": {"internal/api"},
	"internal/client":      {"internal/contract"},
	"internal/agent":       {"internal/agent", "internal/client", "internal/contract", "internal/statefile", "internal/wire"},
	"internal/vantage":     {"internal/client", "internal/contract", "internal/statefile", "internal/wire"},
	"internal/lab":         {"internal/contract", "internal/lab", "internal/wire"},
	"internal/daemon": {"internal/access", "internal/api", "internal/contract", "internal/engine", "internal/statefile", "internal/store",
		"internal/wire"},
	"internal/demo": {"internal/access", "internal/agent", "internal/contract", "internal/daemon", "internal/engine",
		"internal/lab", "internal/store", "internal/vantage"},
	"internal/cli": {"internal/agent/command", "internal/client", "internal/contract", "internal/daemon",
		"docs", "internal/demo", "internal/vantage", "internal/wire/recordfile", "web"},
	"internal/testbed": {"internal/client", "internal/contract", "internal/daemon", "internal/store",
		"internal/store/cluster", "internal/testbed/inside"},
	"internal/testbed/isles": {"docs", "internal/client", "internal/demo", "web"},
	"cmd/inkpost":            {"internal/cli"},
	"cmd/inkpost-agent":      {"internal/agent/command"},
	"web":                    {},
	"docs":                   {},
}

// stateful are the rooms of the engine that hold state, which views and the order of writes work with side by side.
var stateful = []string{"internal/engine/commissioning", "internal/engine/counters", "internal/engine/events", "internal/engine/faults",
	"internal/engine/history",
	"internal/engine/jobs", "internal/engine/marks", "internal/engine/moves", "internal/engine/notices",
	"internal/engine/probing", "internal/engine/proofs", "internal/engine/push",
	"internal/engine/record", "internal/engine/shards", "internal/engine/siteside", "internal/engine/vantages", "internal/engine/verify",
	"internal/engine/zones"}

func within(path, room string) bool { return path == room || strings.HasPrefix(path, room+"/") }

// roomOf gives the room that a folder belongs to.
func roomOf(folder string) (best string) {
	for room := range rooms {
		if within(folder, room) && len(room) > len(best) {
			best = room
		}
	}
	return best
}

func mayImport(folder, imported string) bool {
	room := roomOf(folder)
	if room == "" {
		return false
	}
	if within(imported, "internal/core") || within(imported, room) && room == "internal/core" {
		return true
	}
	return slices.ContainsFunc(rooms[room], func(open string) bool { return within(imported, open) })
}

func TestRoomsImportWhatTheArchitectureAllows(t *testing.T) {
	seen := 0
	for _, root := range []string{"internal", "cmd", "web"} {
		require.NoError(t, filepath.WalkDir(filepath.Join("..", root), func(path string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() && d.Name() == "node_modules" {
				return cmpSkip(err)
			}
			if d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
				return nil
			}
			file, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.ImportsOnly)
			require.NoError(t, err)
			folder := filepath.ToSlash(strings.TrimPrefix(filepath.Dir(path), ".."+string(filepath.Separator)))
			for _, i := range file.Imports {
				imported, err := strconv.Unquote(i.Path.Value)
				require.NoError(t, err)
				if imported, ours := strings.CutPrefix(imported, house); ours {
					seen++
					require.True(t, mayImport(folder, imported), "%s imports %s: docs/architecture.md does not allow that", path, imported)
				}
			}
			return nil
		}))
	}
	require.Greater(t, seen, 200, "the walk found the house")
}

func cmpSkip(err error) error {
	if err != nil {
		return err
	}
	return filepath.SkipDir
}

func TestTheTableRefusesWhatItDoesNotList(t *testing.T) {
	for _, wrong := range [][2]string{{"internal/store", "internal/contract"}, {"internal/wire/speak", "internal/contract"},
		{"internal/cli", "internal/engine"}, {"internal/cli", "internal/store"}, {"internal/engine/record", "internal/contract"},
		{"internal/engine/probing", "internal/engine/vantages"}, {"internal/engine/moves", "internal/engine"},
		{"internal/core/wan", "internal/store"}, {"internal/client", "internal/engine"}, {"internal/agent", "internal/engine"},
		{"internal/new", "internal/core/wan"}} {
		require.False(t, mayImport(wrong[0], wrong[1]), wrong)
	}
}

func TestTheTableStandsInTheArchitecture(t *testing.T) {
	text, err := os.ReadFile("../docs/architecture.md")
	require.NoError(t, err)
	for room := range rooms {
		if strings.HasPrefix(room, "internal/") {
			require.Contains(t, string(text), "`"+room, "the room is in the house's table")
		}
	}
}

// Bounds of what a reader has to take in at once, in lines, tests apart for a room, and in columns, tabs as four.
const maxFile, maxRoom, maxLine = 400, 1500, 140

func TestNoFileNoLineAndNoRoomOfTheEngineIsTooLarge(t *testing.T) {
	lines := map[string]int{}
	for _, root := range []string{".", "../bench", "../cmd"} {
		require.NoError(t, filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") {
				return err
			}
			text, err := os.ReadFile(path)
			require.NoError(t, err)
			n := strings.Count(string(text), "\n")
			require.LessOrEqual(t, n, maxFile, "%s has too many lines; split it by concern", path)
			for i, line := range strings.Split(string(text), "\n") {
				columns := utf8.RuneCountInString(strings.ReplaceAll(line, "\t", "    "))
				require.LessOrEqual(t, columns, maxLine, "%s:%d is too long a line", path, i+1)
			}
			if !strings.HasSuffix(path, "_test.go") {
				lines[filepath.ToSlash(filepath.Dir(path))] += n
			}
			return nil
		}))
	}
	rooms := 0
	for folder, n := range lines {
		if within(folder, "engine") || folder == "access" {
			rooms++
			require.LessOrEqual(t, n, maxRoom, "room %s has too many lines", folder)
		}
	}
	require.Greater(t, rooms, 15, "the walk found the rooms")
}

// A doc comment that begins with another word than the name tells of a rename that was not finished.
func TestDocCommentsBeginWithTheirNames(t *testing.T) {
	seen := 0
	require.NoError(t, filepath.WalkDir(".", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		file, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.ParseComments)
		require.NoError(t, err)
		for _, decl := range file.Decls {
			name, doc := documented(decl)
			if first, _, _ := strings.Cut(doc, " "); doc != "" {
				seen++
				require.Contains(t, []string{name, "A", "An", "The"}, first, "%s: the doc comment of %s", path, name)
			}
		}
		return nil
	}))
	require.Greater(t, seen, 1000)
}

// documented returns the name of a function or of a type that is declared alone, and its doc comment.
func documented(decl ast.Decl) (name, doc string) {
	switch d := decl.(type) {
	case *ast.FuncDecl:
		return d.Name.Name, d.Doc.Text()
	case *ast.GenDecl:
		if len(d.Specs) == 1 && d.Tok == token.TYPE {
			return d.Specs[0].(*ast.TypeSpec).Name.Name, d.Doc.Text()
		}
	}
	return "", ""
}
