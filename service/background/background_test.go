package background_test

import (
	"bytes"
	"context"
	"errors"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"log/slog"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rectura/service/background"
)

func TestPanics(t *testing.T) {
	var text bytes.Buffer
	log := slog.New(slog.NewTextHandler(&text, nil))
	err := background.Do(log, "counting fish", func() error { panic("no fish") })
	var p *background.Panic
	require.ErrorAs(t, err, &p)
	assert.Equal(t, "an error of the program while counting fish: no fish", err.Error())
	assert.Contains(t, text.String(), "background_test.go", "the stack is in the log")

	var g background.Group
	wrong := make(chan error, 2)
	g.Go(log, "counting fish", func() error { panic("no fish") }, func(err error) { wrong <- err })
	g.Go(log, "counting fish", func() error { return errors.New("too many") }, func(err error) { wrong <- err })
	g.Wait()
	assert.ElementsMatch(t, []string{err.Error(), "too many"}, []string{(<-wrong).Error(), (<-wrong).Error()})
}

func TestSpread(t *testing.T) {
	var done atomic.Int64
	tasks := make([]func() error, 100)
	for i := range tasks {
		tasks[i] = func() error { done.Add(1); return nil }
	}
	require.NoError(t, background.Spread("counting fish", tasks))
	assert.EqualValues(t, 100, done.Load())
	tasks[3] = func() error { panic("no fish") }
	var p *background.Panic
	require.ErrorAs(t, background.Spread("counting fish", tasks), &p)
	assert.Contains(t, string(p.Stack), "background_test.go")
	assert.Less(t, done.Load(), int64(200), "nothing begins after an error")

	var text bytes.Buffer
	ctx, end := context.WithCancel(t.Context())
	called := make(chan bool, 1)
	background.After(ctx, slog.New(slog.NewTextHandler(&text, nil)), "counting fish", func() { defer close(called); panic("no fish") })
	end()
	<-called
}

// Nothing of the service starts a goroutine in which nobody recovers: one panic would end the plant's control.
func TestNoBareGoroutines(t *testing.T) {
	looked := 0
	err := filepath.WalkDir("..", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") || filepath.Base(path) == "background.go" ||
			strings.Contains(filepath.ToSlash(path), "device/simulated/") { // a rack for tests
			return err
		}
		looked++
		files := token.NewFileSet()
		f, err := parser.ParseFile(files, path, nil, 0)
		if err != nil {
			return err
		}
		ast.Inspect(f, func(n ast.Node) bool {
			switch n := n.(type) {
			case *ast.GoStmt:
				t.Errorf("%s: start it with background.Go", files.Position(n.Pos()))
			case *ast.CallExpr:
				of, is := n.Fun.(*ast.SelectorExpr)
				if is && of.Sel.Name == "Go" && len(n.Args) == 1 { // of a sync.WaitGroup, say
					t.Errorf("%s: start it with background.Group", files.Position(n.Pos()))
				}
				if is && of.Sel.Name == "AfterFunc" {
					t.Errorf("%s: a timer's function runs in a goroutine, too", files.Position(n.Pos()))
				}
			}
			return true
		})
		return nil
	})
	require.NoError(t, err)
	assert.Greater(t, looked, 50)
}
