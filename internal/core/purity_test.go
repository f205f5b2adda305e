package core_test

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

const home = "inkpost.example/inkpost/internal/core/"

// forbidden lists what the core may not use although it is in the standard library: it does no I/O and reads no clock.
var forbidden = map[string]bool{"os": true, "io": true, "net": true, "net/http": true, "database/sql": true, "syscall": true, "log": true, "log/slog": true,
	"math/rand": true, "math/rand/v2": true, "crypto/rand": true, "context": true, "sync": true}

var clock = map[string]bool{"Now": true, "Since": true, "Until": true, "Sleep": true, "After": true, "AfterFunc": true, "NewTimer": true, "NewTicker": true, "Tick": true}

func offences(t *testing.T, name string, src any) (found []string) {
	t.Helper()
	file, err := parser.ParseFile(token.NewFileSet(), name, src, 0)
	require.NoError(t, err)
	for _, i := range file.Imports {
		path, err := strconv.Unquote(i.Path.Value)
		require.NoError(t, err)
		first, _, _ := strings.Cut(path, "/")
		if forbidden[path] || strings.Contains(first, ".") && !strings.HasPrefix(path, home) {
			found = append(found, name+" imports "+path)
		}
	}
	ast.Inspect(file, func(n ast.Node) bool {
		if s, ok := n.(*ast.SelectorExpr); ok {
			if pkg, ok := s.X.(*ast.Ident); ok && pkg.Name == "time" && clock[s.Sel.Name] {
				found = append(found, name+" reads the clock: time."+s.Sel.Name)
			}
		}
		return true
	})
	return found
}

func TestCoreComputesAndNothingElse(t *testing.T) {
	seen := 0
	require.NoError(t, filepath.WalkDir(".", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		seen++
		require.Empty(t, offences(t, path, nil))
		return nil
	}))
	require.Greater(t, seen, 10, "the walk found the core")
}

func TestPurityCheckFindsOffences(t *testing.T) {
	src := "package x\nimport (\n\"os\"\n\"time\"\n\"github.com/miekg/dns\"\n\"" + home + "wan\"\n)\nvar _ = time.Now()\nvar _ = os.Args\nvar _ = dns.A{}\nvar _ wan.Pair"
	require.Len(t, offences(t, "x.go", src), 3)
}
