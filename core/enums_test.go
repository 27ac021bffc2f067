package core_test

import (
	"go/ast"
	"go/parser"
	"go/token"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What is kept of an enumeration is read up to its sentinel, the last constant of its block, and never up to a constant that a later
// one may follow: so the next version reads what this one has kept, and this one says what it does not know.
func TestEnumsAreReadUpToTheirSentinel(t *testing.T) {
	last := map[string]bool{} // names of sentinels: the last of a block with iota
	each(t, ".", true, func(path string, _ *ast.File) {
		f, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.ParseComments)
		require.NoError(t, err)
		for _, d := range f.Decls {
			if g, is := d.(*ast.GenDecl); is && g.Tok == token.CONST && counts(g) {
				s := g.Specs[len(g.Specs)-1].(*ast.ValueSpec)
				last[s.Names[0].Name] = strings.Contains(s.Comment.Text(), "how many there are")
			}
		}
	})
	read := 0
	each(t, ".", true, func(path string, f *ast.File) {
		if strings.HasSuffix(path, "_test.go") {
			return
		}
		ast.Inspect(f, func(n ast.Node) bool {
			call, is := n.(*ast.CallExpr)
			if !is || len(call.Args) != 4 {
				return true
			}
			if s, is := call.Fun.(*ast.SelectorExpr); !is || s.Sel.Name != "One" {
				return true
			}
			read++
			name := ""
			switch x := call.Args[2].(type) {
			case *ast.Ident:
				name = x.Name
			case *ast.SelectorExpr:
				name = x.Sel.Name
			}
			assert.True(t, last[name], "%s reads an enumeration up to %q, which is not the sentinel of its block", path, name)
			return true
		})
	})
	assert.Greater(t, read, 12)
}

// counts tells whether a block of constants is an enumeration.
func counts(g *ast.GenDecl) bool {
	found := false
	ast.Inspect(g, func(n ast.Node) bool {
		id, is := n.(*ast.Ident)
		found = found || is && id.Name == "iota"
		return true
	})
	return found
}
