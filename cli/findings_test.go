package cli

import (
	"bytes"
	"encoding/json"
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rectura/core/sheet"
)

// checked runs `check` on a job and gives the codes that it finds.
func checked(t *testing.T, text, recording string) []string {
	t.Helper()
	folder := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(folder, "recordings"), 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(folder, "a.rct"), []byte(text), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(folder, "recordings", "night.csv"), []byte(recording), 0o600))
	var out, errs bytes.Buffer
	code := Run(t.Context(), []string{"check", folder, "--format", "json"}, &out, &errs)
	require.Less(t, code, 2, "%s", &errs)
	var found []findingJSON
	require.NoError(t, json.Unmarshal(out.Bytes(), &found))
	codes := []string{}
	for _, f := range found {
		codes = append(codes, f.Severity+" "+f.Code)
	}
	return codes
}

// Every wrong example of docs/findings.md gives exactly that finding, and its
// right one none; and every code that there is has its section.
func TestFindingsInTheDocs(t *testing.T) {
	page, err := os.ReadFile("../docs/findings.md")
	require.NoError(t, err)
	blocks := regexp.MustCompile("(?ms)^```(\\w+)\n(.*?)^```$").FindAllStringSubmatch(string(page), -1)
	frame, recording := blocks[0][2], blocks[1][2]
	require.Equal(t, "frame", blocks[0][1])
	assert.Empty(t, checked(t, frame, recording))

	sections := map[string]bool{}
	severity := ""
	for _, part := range regexp.MustCompile(`(?m)^##+ `).Split(string(page), -1)[1:] {
		title, body, _ := strings.Cut(part, "\n")
		if title == "Errors" || title == "Warnings" {
			severity = strings.ToLower(strings.TrimSuffix(title, "s"))
			continue
		}
		sections[title] = true
		examples := regexp.MustCompile("(?ms)^```(\\w+)\n(.*?)^```$").FindAllStringSubmatch(body, -1)
		if title == "encoding" || title == "size" {
			continue // which a page cannot show; see below
		}
		require.Len(t, examples, 2, title)
		for i, want := range [][]string{{severity + " " + title}, {}} {
			text := examples[i][2]
			if examples[i][1] == "sheet" {
				text = frame + "\n" + text
			}
			assert.Equal(t, want, checked(t, text, recording), "%s, example %d", title, i)
		}
	}
	assert.Equal(t, []string{"error encoding"}, checked(t, frame+"# \xff\n", recording))
	assert.Equal(t, []string{"error size"}, checked(t, frame+strings.Repeat("#\n", sheet.MaxSize/2+1), recording))

	known := map[string]bool{}
	for _, pattern := range []string{"../core/sheet/*.go", "../core/logic/check.go", "../core/bench/untried.go", "check.go"} {
		files, err := filepath.Glob(pattern)
		require.NoError(t, err)
		for _, file := range files {
			if strings.HasSuffix(file, "_test.go") {
				continue
			}
			for _, code := range codes(t, file) {
				known[code] = true
				assert.True(t, sections[code], "docs/findings.md has no section %s, of %s", code, file)
			}
		}
	}
	for section := range sections {
		assert.True(t, known[section], "docs/findings.md has a section %s, and nothing is found by that name", section)
	}
}

// codes are those of the findings that a file makes: in calls that report them, and in
// findings and type errors.
func codes(t *testing.T, file string) (all []string) {
	form := regexp.MustCompile(`^"([a-z]+(?:-[a-z]+)*)"$`)
	add := func(exprs ...ast.Expr) {
		for _, x := range exprs {
			if lit, is := x.(*ast.BasicLit); is {
				if m := form.FindStringSubmatch(lit.Value); m != nil && m[1] != "internal" {
					all = append(all, m[1])
				}
			}
		}
	}
	parsed, err := parser.ParseFile(token.NewFileSet(), file, nil, 0)
	require.NoError(t, err)
	ast.Inspect(parsed, func(n ast.Node) bool {
		switch n := n.(type) {
		case *ast.CallExpr:
			if f, is := n.Fun.(*ast.SelectorExpr); is && slices.Contains([]string{"errorf", "warnf", "report", "add"}, f.Sel.Name) {
				add(n.Args[:max(0, len(n.Args)-1)]...) // the last is the text, or a part of it
			}
		case *ast.KeyValueExpr:
			if key, is := n.Key.(*ast.Ident); is && key.Name == "Code" {
				add(n.Value)
			}
		case *ast.CompositeLit:
			if kind, is := n.Type.(*ast.Ident); is && kind.Name == "typeError" {
				add(n.Elts...)
			}
		}
		return true
	})
	return all
}
