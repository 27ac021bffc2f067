package core_test

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What a package shows is what others use, and no more than fits into a head: the
// counts below are of functions, methods and types together, and go down rather than up.
func TestSurface(t *testing.T) {
	for pkg, most := range map[string]int{"rectura/core/logic": 129, "rectura/core/sheet": 174, "rectura/core/run": 7, "rectura/core/memo": 20} {
		shown := exported(t, filepath.FromSlash(strings.TrimPrefix(pkg, "rectura/core/")))
		used := usedOf(t, pkg)
		for _, name := range shown {
			assert.True(t, used[name] || slices.Contains(plant[pkg], name), "%s shows %s, which nobody else uses; write it small", pkg, name)
		}
		t.Logf("%s shows %d", pkg, len(shown))
		assert.LessOrEqual(t, len(shown), most, pkg)
	}
}

// plant is what a running plant stands on, and the bench has no need of; and the type of
// a declaration that is only told apart.
var plant = map[string][]string{
	"rectura/core/logic": {
		"AlarmChanges",
		"Delayed",
		"Drive",
		"Effect",
		"Ends",
		"FromWire",
		"Listening",
		"Lock",
		"Lost",
		"Restart",
		"Resume",
		"Save",
		"Settled",
		"Shift",
		"ToWire",
	},
	"rectura/core/sheet": {"JobHead", "ReadBack"},
}

// always are methods that are used by interfaces and by formatting, and need no name.
var always = []string{"String", "Error", "Unwrap"}

// exported are the functions, methods and types that a package shows.
func exported(t *testing.T, folder string) []string {
	var names []string
	each(t, folder, false, func(_ string, f *ast.File) {
		for _, d := range f.Decls {
			switch d := d.(type) {
			case *ast.FuncDecl:
				if d.Name.IsExported() && !slices.Contains(always, d.Name.Name) && shownReceiver(d) {
					names = append(names, d.Name.Name)
				}
			case *ast.GenDecl:
				for _, s := range d.Specs {
					if s, is := s.(*ast.TypeSpec); is && s.Name.IsExported() {
						names = append(names, s.Name.Name)
					}
				}
			}
		}
	})
	require.NotEmpty(t, names)
	slices.Sort(names)
	return slices.Compact(names)
}

func shownReceiver(d *ast.FuncDecl) bool {
	if d.Recv == nil {
		return true
	}
	x := d.Recv.List[0].Type
	if star, is := x.(*ast.StarExpr); is {
		x = star.X
	}
	name, is := x.(*ast.Ident)
	return is && name.IsExported()
}

// usedOf are the names that the packages which import a package select, be it of that
// package or of a value, and the types that stand in what they are given.
func usedOf(t *testing.T, pkg string) map[string]bool {
	used, importers := map[string]bool{}, map[string]bool{}
	each(t, "..", true, func(path string, f *ast.File) {
		if imports(f, pkg) && !strings.HasSuffix(path, "_test.go") {
			importers[filepath.Dir(path)] = true
		}
	})
	own := filepath.FromSlash(strings.TrimPrefix(pkg, "rectura/core/"))
	each(t, "..", true, func(path string, f *ast.File) {
		inside := filepath.Dir(path) == filepath.Join("..", "core", own)
		if inside && !strings.HasSuffix(path, "_test.go") {
			// What is shown may be made of other types that are shown.
			ast.Inspect(f, func(n ast.Node) bool {
				switch n := n.(type) {
				case *ast.FuncDecl:
					if n.Name.IsExported() {
						idents(n.Type, used)
					}
					return false
				case *ast.TypeSpec:
					if n.Name.IsExported() {
						idents(n.Type, used)
					}
					return false
				}
				return true
			})
			return
		}
		if inside || strings.HasSuffix(path, "_test.go") || !importers[filepath.Dir(path)] {
			return
		}
		ast.Inspect(f, func(n ast.Node) bool {
			if s, is := n.(*ast.SelectorExpr); is {
				used[s.Sel.Name] = true
			}
			return true
		})
	})
	return used
}

func idents(n ast.Node, into map[string]bool) {
	ast.Inspect(n, func(n ast.Node) bool {
		if id, is := n.(*ast.Ident); is {
			into[id.Name] = true
		}
		return true
	})
}

func imports(f *ast.File, pkg string) bool {
	return slices.ContainsFunc(f.Imports, func(i *ast.ImportSpec) bool {
		path, err := strconv.Unquote(i.Path.Value)
		return err == nil && path == pkg
	})
}

// parsed are the files that were parsed already, by path.
var parsed = map[string]*ast.File{}

// each parses the files of a folder, or of all below it.
func each(t *testing.T, folder string, below bool, look func(path string, f *ast.File)) {
	require.NoError(t, filepath.WalkDir(folder, func(path string, e fs.DirEntry, err error) error {
		switch {
		case err != nil:
			return err
		case e.IsDir() && (e.Name() == "node_modules" || e.Name() == ".git" || !below && path != folder):
			return filepath.SkipDir
		case e.IsDir() || filepath.Ext(path) != ".go" || !below && strings.HasSuffix(path, "_test.go"):
			return nil
		}
		f := parsed[path]
		if f == nil {
			if f, err = parser.ParseFile(token.NewFileSet(), path, nil, parser.SkipObjectResolution); err != nil {
				return err
			}
			parsed[path] = f
		}
		look(path, f)
		return nil
	}))
}
