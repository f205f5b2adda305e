package internal_test

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// namesErrors are what a doc comment says errors with: in words, by their names, or by what others do.
var namesErrors = []string{"rror", "Err", "Missing", "Flaws", "Stale", "refuse", "Refuse", "implements "}

// Every exported function that returns an error says which, or its package does for all of them.
func TestDocCommentsNameErrors(t *testing.T) {
	said, seen := map[string]bool{}, 0
	type function struct{ path, name string }
	silent := map[string][]function{}
	require.NoError(t, filepath.WalkDir(".", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		file, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.ParseComments)
		require.NoError(t, err)
		folder := filepath.Dir(path)
		said[folder] = said[folder] || strings.Contains(file.Doc.Text(), "Errors of all")
		for _, decl := range file.Decls {
			f, ok := decl.(*ast.FuncDecl)
			if !ok || !returnsError(f) || !exported(f) {
				continue
			}
			seen++
			doc := f.Doc.Text()
			if !slices.ContainsFunc(namesErrors, func(word string) bool { return strings.Contains(doc, word) }) {
				silent[folder] = append(silent[folder], function{path, f.Name.Name})
			}
		}
		return nil
	}))
	for folder, list := range silent {
		if !said[folder] {
			require.Empty(t, list, "doc comments that do not say what errors there are")
		}
	}
	require.Greater(t, seen, 500)
}

func returnsError(f *ast.FuncDecl) bool {
	return f.Type.Results != nil && slices.ContainsFunc(f.Type.Results.List, func(r *ast.Field) bool {
		id, ok := r.Type.(*ast.Ident)
		return ok && id.Name == "error"
	})
}

// exported reports whether other packages can call a function: it and its receiver's type are exported.
func exported(f *ast.FuncDecl) bool {
	if f.Recv == nil {
		return f.Name.IsExported()
	}
	of := f.Recv.List[0].Type
	if star, ok := of.(*ast.StarExpr); ok {
		of = star.X
	}
	id, ok := of.(*ast.Ident)
	return ok && id.IsExported() && f.Name.IsExported() && f.Name.Name != "Unwrap"
}
