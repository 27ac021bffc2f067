package bench_test

import (
	"cmp"
	"encoding/json"
	"math"
	"os"
	"path/filepath"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rectura/core/bench"
	"rectura/core/logic"
	"rectura/core/recording"
	"rectura/core/recording/csv"
	"rectura/core/sheet"
)

// A change is a transition as the vectors name it.
type change struct {
	T    float64 `json:"t"`
	Name string  `json:"name"`
	Kind string  `json:"kind"`
	From string  `json:"from"`
	To   string  `json:"to"`
}

func changes(r *bench.Result) []change {
	var all []change
	for _, t := range r.Transitions {
		seconds := float64(t.Time-r.Recording.Start) / 1e9
		all = append(all, change{math.Round(seconds*1e9) / 1e9, r.Program.Name(t.Kind, int(t.Index)), t.Kind.String(), t.From.String(), t.To.String()})
	}
	return all
}

// compileJob reads, checks and compiles a job's text; the job must be right.
func compileJob(t require.TestingT, text string) *logic.Program {
	job, found := sheet.Parse([]sheet.Source{{Name: "case.rct", Text: []byte(text)}})
	require.False(t, sheet.HasErrors(found), "%v", found)
	p, err := logic.Compile(job)
	require.NoError(t, err)
	return p
}

func readFile(t testing.TB, name string) *recording.Recording {
	t.Helper()
	f, err := os.Open(name)
	require.NoError(t, err)
	defer func() { require.NoError(t, f.Close()) }()
	r, err := csv.Reader{Name: name}.Read(f)
	require.NoError(t, err)
	return r
}

// The vectors were worked out by a model that knows only the description of how
// a job runs. What changes at one instant has no order there.
func TestVectors(t *testing.T) {
	folders, err := filepath.Glob("testdata/vectors/*")
	require.NoError(t, err)
	require.GreaterOrEqual(t, len(folders), 16)
	for _, folder := range folders {
		t.Run(filepath.Base(folder), func(t *testing.T) {
			text, err := os.ReadFile(filepath.Join(folder, "case.rct"))
			require.NoError(t, err)
			result, err := bench.Replay(compileJob(t, string(text)), readFile(t, filepath.Join(folder, "recordings", "signals.csv")), bench.Options{})
			require.NoError(t, err)

			data, err := os.ReadFile(filepath.Join(folder, "expected.json"))
			require.NoError(t, err)
			var want []change
			require.NoError(t, json.Unmarshal(data, &want))
			got := changes(result)
			assert.True(t, slices.IsSortedFunc(got, func(a, b change) int { return cmp.Compare(a.T, b.T) }))
			assert.Equal(t, sorted(want), sorted(got))
		})
	}
}

func sorted(all []change) []change {
	slices.SortStableFunc(all, func(a, b change) int {
		return cmp.Or(cmp.Compare(a.T, b.T), cmp.Compare(a.Kind, b.Kind), cmp.Compare(a.Name, b.Name))
	})
	return all
}
