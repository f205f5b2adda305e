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

// allowed lists what the core may use of the standard library: what computes on values. It does no I/O, waits for nothing, draws no
// lots and reads no clock.
var allowed = map[string]bool{"cmp": true, "container/heap": true, "encoding/base64": true, "encoding/binary": true,
	"encoding/json": true, "errors": true, "fmt": true, "iter": true, "maps": true,
	"math": true, "math/bits": true, "net/netip": true, "net/url": true, "regexp": true, "slices": true, "strconv": true,
	"strings": true, "time": true, "unique": true, "unicode": true, "unicode/utf8": true}

var clock = map[string]bool{"Now": true, "Since": true, "Until": true, "Sleep": true, "After": true, "AfterFunc": true,
	"NewTimer": true, "NewTicker": true, "Tick": true}

func offences(t *testing.T, name string, src any) (found []string) {
	t.Helper()
	file, err := parser.ParseFile(token.NewFileSet(), name, src, 0)
	require.NoError(t, err)
	for _, i := range file.Imports {
		path, err := strconv.Unquote(i.Path.Value)
		require.NoError(t, err)
		if !allowed[path] && !strings.HasPrefix(path, home) {
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
	src := "package x\nimport (\n\"embed\"\n\"time\"\n\"github.com/miekg/dns\"\n\"" + home +
		"wan\"\n)\nvar _ = time.Now()\nvar _ embed.FS\nvar _ = dns.A{}\nvar _ wan.Pair"
	require.Len(t, offences(t, "x.go", src), 3)
}
