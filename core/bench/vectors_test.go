package bench_test

import (
	"cmp"
	"encoding/json"
	"math"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rectura/core/bench"
	"rectura/core/logic"
	"rectura/core/recording"
	"rectura/core/recording/csv"
	"rectura/core/sheet"
	"rectura/core/unit"
)

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

// A step is a transition as the vectors of the whole language name it: an analog
// output goes from one number to another.
type step struct {
	T    float64 `json:"t"`
	Name string  `json:"name"`
	Kind string  `json:"kind"`
	From any     `json:"from"`
	To   any     `json:"to"`
}

func steps(r *bench.Result) []step {
	var all []step
	for _, t := range r.Transitions {
		p := r.Program
		x := step{math.Round(float64(t.Time-r.Recording.Start)) / 1e9, p.Name(t.Ref), t.Kind.String(), nil, nil}
		if t.Kind == logic.OutputKind && p.Outputs[t.Index].Analog() {
			x.From, x.To = t.From.Level, t.To.Level
		} else {
			x.From, x.To = p.States(t)
		}
		all = append(all, x)
	}
	return all
}

// The vectors were worked out by a model that knows only the description of how
// a job runs. What changes at one instant has no order there, but that inputs
// come before what is evaluated and that before outputs.
func TestVectors(t *testing.T) {
	folders, err := filepath.Glob("testdata/vectors/*")
	require.NoError(t, err)
	require.Len(t, folders, 104)
	for _, folder := range folders {
		t.Run(filepath.Base(folder), func(t *testing.T) {
			text, err := os.ReadFile(filepath.Join(folder, "case.rct"))
			require.NoError(t, err)
			o := bench.Options{EveryChange: true}
			if scan, err := os.ReadFile(filepath.Join(folder, "scan")); err == nil {
				o.Scan, err = unit.ParseDuration(strings.TrimSpace(string(scan)))
				require.NoError(t, err)
			}
			result, err := bench.Replay(compileJob(t, string(text)), readFile(t, filepath.Join(folder, "recordings", "signals.csv")), o)
			require.NoError(t, err)
			data, err := os.ReadFile(filepath.Join(folder, "expected.json"))
			require.NoError(t, err)
			var want []step
			require.NoError(t, json.Unmarshal(data, &want))

			got := steps(result)
			rank := map[string]int{"input": 0, "output": 2}
			assert.True(t, slices.IsSortedFunc(got, func(a, b step) int {
				of := func(s step) int {
					if r, known := rank[s.Kind]; known {
						return r
					}
					return 1
				}
				return cmp.Or(cmp.Compare(a.T, b.T), cmp.Compare(of(a), of(b)))
			}), "the order of what changed at one instant")
			got, want = inOrder(moved(got)), inOrder(moved(want))
			for i := range want {
				if i >= len(got) || !got[i].is(want[i]) {
					require.Fail(t, "the first difference", "want %v\ngot  %v", want[i:min(i+4, len(want))], got[min(i, len(got)):min(i+4, len(got))])
				}
			}
			require.Len(t, got, len(want), "after the last that was expected: %v", got[len(want):])

			stepped, err := bench.Replay(result.Program, result.Recording, bench.Stepping(o))
			require.NoError(t, err)
			require.Equal(t, toldOf(stepped), toldOf(result), "handing over every reading tells the same")
		})
	}
}

// is compares values of analog outputs as numbers that were worked out in
// another way.
func (s step) is(want step) bool {
	same := func(a, b any) bool {
		x, isX := a.(float64)
		y, isY := b.(float64)
		return a == b || isX && isY && math.Abs(x-y) <= 1e-7
	}
	return s.T == want.T && s.Name == want.Name && s.Kind == want.Kind && same(s.From, want.From) && same(s.To, want.To)
}

// moved leaves out changes of a value by less than the vectors are exact to: a loop that goes on from where its output stands
// does not move it by a rounding error.
func moved(all []step) []step {
	return slices.DeleteFunc(all, func(s step) bool {
		from, is := s.From.(float64)
		to, other := s.To.(float64)
		return is && other && math.Abs(from-to) <= 1e-7
	})
}

func inOrder(all []step) []step {
	slices.SortStableFunc(all, func(a, b step) int {
		return cmp.Or(cmp.Compare(a.T, b.T), cmp.Compare(a.Kind, b.Kind), cmp.Compare(a.Name, b.Name))
	})
	return all
}
