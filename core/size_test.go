package core

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Bounds that keep a file readable.
const (
	longestLine      = 140 // characters
	longestFunction  = 80  // lines of a function in Go
	longestComponent = 150 // lines of a component of the front end
	mostParameters   = 6   // of a function in Go
)

// sources calls do for each file of the product that people write, with its path from the root.
func sources(t *testing.T, do func(path string, text string)) {
	require.NoError(t, filepath.WalkDir("..", func(path string, d fs.DirEntry, err error) error {
		switch {
		case err != nil:
			return err
		case d.IsDir() && (strings.HasPrefix(d.Name(), ".") && d.Name() != ".." || d.Name() == "node_modules" || d.Name() == "dist"):
			return filepath.SkipDir
		case d.IsDir() || strings.HasSuffix(path, "schema.ts") || strings.HasSuffix(path, "RESULTS.md"):
			return nil // the two are made by a program
		}
		switch filepath.Ext(path) {
		case ".go", ".ts", ".tsx", ".md":
			raw, err := os.ReadFile(path)
			require.NoError(t, err)
			do(strings.TrimPrefix(path, "../"), string(raw))
		}
		return nil
	}))
}

// A row of a Markdown table and the tag of a field in Go cannot be broken.
func TestLinesAreShort(t *testing.T) {
	files := 0
	sources(t, func(path, text string) {
		files++
		for i, line := range strings.Split(text, "\n") {
			whole := strings.HasPrefix(line, "|") || filepath.Ext(path) == ".go" && strings.Contains(line, "`json:\"")
			if n := utf8.RuneCountInString(line); n > longestLine && !whole {
				t.Errorf("%s:%d has %d characters", path, i+1, n)
			}
		}
	})
	assert.Greater(t, files, 500)
}

func TestFunctionsAreShort(t *testing.T) {
	functions, components := 0, 0
	sources(t, func(path, text string) {
		switch {
		case filepath.Ext(path) == ".go":
			set := token.NewFileSet()
			file, err := parser.ParseFile(set, path, text, 0)
			require.NoError(t, err)
			for _, d := range file.Decls {
				f, ok := d.(*ast.FuncDecl)
				if !ok {
					continue
				}
				functions++
				if n := set.Position(f.End()).Line - set.Position(f.Pos()).Line + 1; n > longestFunction && !strings.HasSuffix(path, "_test.go") {
					t.Errorf("%s: %s has %d lines", path, f.Name.Name, n)
				}
				if n := f.Type.Params.NumFields(); n > mostParameters {
					t.Errorf("%s: %s has %d parameters: make them fields of a struct", path, f.Name.Name, n)
				}
			}
		case filepath.Ext(path) == ".tsx" && !strings.Contains(path, ".test."):
			began, name := -1, ""
			for i, line := range strings.Split(text, "\n") {
				if rest, ok := strings.CutPrefix(strings.TrimPrefix(line, "export "), "function "); ok {
					began, name = i, rest
				}
				if line == "}" && began >= 0 {
					components++
					if n := i - began + 1; n > longestComponent {
						t.Errorf("%s: %s has %d lines", path, name, n)
					}
					began = -1
				}
			}
		}
	})
	assert.Greater(t, functions, 1000)
	assert.Greater(t, components, 100)
}

// Every package of core has an Example, from which a newcomer can start.
func TestEveryPackageHasAnExample(t *testing.T) {
	has := map[string]bool{}
	sources(t, func(path, text string) {
		if dir := filepath.Dir(path); strings.HasPrefix(dir, "core/") && filepath.Ext(path) == ".go" {
			has[dir] = has[dir] || strings.HasSuffix(path, "_test.go") && strings.Contains(text, "\nfunc Example")
		}
	})
	assert.Greater(t, len(has), 40)
	for dir, yes := range has {
		assert.True(t, yes, "%s has no Example", dir)
	}
}
