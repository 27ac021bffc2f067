package sheet_test

import (
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rectura/core/sheet"
)

// Every word that the parser asks for is one of those that editors are told.
func TestWordsAreThoseOfTheParser(t *testing.T) {
	told := map[string]bool{}
	for _, w := range sheet.Words() {
		told[w] = true
	}
	word := regexp.MustCompile(`^[a-z_]+$`)
	asked := map[string]bool{}
	entries, err := os.ReadDir(".")
	require.NoError(t, err)
	for _, e := range entries {
		if !strings.HasSuffix(e.Name(), ".go") || strings.HasSuffix(e.Name(), "_test.go") {
			continue
		}
		file, err := parser.ParseFile(token.NewFileSet(), e.Name(), nil, 0)
		require.NoError(t, err)
		ast.Inspect(file, func(n ast.Node) bool {
			call, is := n.(*ast.CallExpr)
			if !is {
				return true
			}
			method, is := call.Fun.(*ast.SelectorExpr)
			if !is {
				return true
			}
			args := call.Args
			switch method.Sel.Name {
			case "accept", "at", "oneOf":
			case "expect":
				args = args[:1]
			default:
				return true
			}
			for _, a := range args {
				if lit, is := a.(*ast.BasicLit); is && lit.Kind == token.STRING {
					if text, err := strconv.Unquote(lit.Value); err == nil && word.MatchString(text) {
						asked[text] = true
					}
				}
			}
			return true
		})
	}
	require.Greater(t, len(asked), 60)
	for w := range asked {
		assert.True(t, told[w], "the parser asks for %q, of which editors know nothing", w)
	}
}

// Every form names clauses that its declaration takes: with any of them it is no
// unknown clause.
func TestSyntaxes(t *testing.T) {
	forms := sheet.Syntaxes()
	require.Len(t, forms, 15)
	for _, f := range forms {
		require.Contains(t, f.Clauses, "note", f.Keyword)
	}
	for _, f := range forms {
		if f.Keyword == "rule" {
			assert.Equal(
				t,
				"note; on when; off when; off after; pulse; latch; reset when; permissive when; interlock; minimum on; minimum off; call",
				strings.Join(f.Clauses, "; "),
			)
		}
	}
}
