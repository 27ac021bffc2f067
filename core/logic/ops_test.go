package logic

import (
	"go/ast"
	"go/parser"
	"go/token"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Every operation is named, linked, written and explained, and has a case where it is
// evaluated; but for the four comparisons, which are the rest there.
func TestEveryOperationHasItsPlace(t *testing.T) {
	names := map[string]bool{}
	for op := range condOps {
		o := &operations[op]
		require.True(
			t,
			o.name != "" && o.link != nil && o.text != nil && o.explain != nil,
			"the operation %d, after %s, is not complete in ops.go",
			op,
			operations[max(op, 1)-1].name,
		)
		assert.False(t, names[o.name], o.name)
		names[o.name] = true
	}
	declared := constants(t, "program.go", "condOps")
	require.Len(t, declared, int(condOps))
	cases := map[string]bool{}
	file, err := parser.ParseFile(token.NewFileSet(), "conds.go", nil, 0)
	require.NoError(t, err)
	for _, d := range file.Decls {
		if f, is := d.(*ast.FuncDecl); is && f.Name.Name == "cond" {
			ast.Inspect(f, func(n ast.Node) bool {
				if c, is := n.(*ast.CaseClause); is {
					for _, x := range c.List {
						cases[x.(*ast.Ident).Name] = true
					}
				}
				return true
			})
		}
	}
	for _, name := range declared[condAtLeast+1:] {
		assert.True(t, cases[name], "%s has no case in cond", name)
	}
}

// constants are the names of an enumeration that ends with one.
func constants(t *testing.T, name, last string) []string {
	file, err := parser.ParseFile(token.NewFileSet(), name, nil, 0)
	require.NoError(t, err)
	for _, d := range file.Decls {
		g, is := d.(*ast.GenDecl)
		if !is || g.Tok != token.CONST {
			continue
		}
		var names []string
		for _, s := range g.Specs {
			if n := s.(*ast.ValueSpec).Names[0].Name; n == last {
				return names
			} else if strings.HasPrefix(n, "cond") {
				names = append(names, n)
			}
		}
	}
	return nil
}
