package logic

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"rectura/core/sheet"
	"rectura/core/sheet/sheettest"
)

// A moment is readings that come at one time.
type moment struct {
	at       int64
	readings map[int]float64
}

func moments(t *rapid.T, p *Program) []moment {
	return momentsApart(t, p, 60, []int64{1, 5e8, 1e9, 2e9, 2.5e9, 30e9, 60e9, 90e9})
}

func momentsApart(t *rapid.T, p *Program, most int, gaps []int64) []moment {
	var all []moment
	at := int64(0)
	for range rapid.IntRange(2, most).Draw(t, "moments") {
		at += rapid.SampledFrom(gaps).Draw(t, "gap")
		m := moment{at, map[int]float64{}}
		for i := range p.Inputs {
			if strings.HasSuffix(p.Inputs[i].Name, ".inhand") { // which the stepper alone sets
				continue
			}
			switch {
			case rapid.IntRange(0, 2).Draw(t, "silent") == 0:
			case rapid.IntRange(0, 11).Draw(t, "bad") == 0:
				m.readings[i] = math.NaN()
			case p.Inputs[i].Chain == nil:
				m.readings[i] = float64(rapid.IntRange(0, 1).Draw(t, "contact"))
			default:
				m.readings[i] = p.Inputs[i].Chain.Carry(float64(rapid.IntRange(0, 20).Draw(t, "value"))/2, len(p.Inputs[i].Chain.Units)-1, 0)
			}
		}
		all = append(all, m)
	}
	return all
}

// drive plays moments; at each of the extra times an instant is evaluated too.
func drive(p *Program, all []moment, extra []int64, always bool) []string {
	s := NewStepper(p)
	s.always = always
	var out []string
	clock := func(t int64) string { return fmt.Sprint(t) }
	step := func(at int64) {
		for _, tr := range s.MustStep(at) {
			out = append(
				out,
				fmt.Sprintf("%d %s %s→%s: %s", at, p.Name(tr.Ref), p.StandText(tr.Ref, tr.From), p.StandText(tr.Ref, tr.To), p.Sentence(tr, clock)),
			)
		}
	}
	for _, m := range all {
		for s.Next() < m.at || len(extra) > 0 && extra[0] < m.at {
			next := s.Next()
			if len(extra) > 0 && extra[0] < next {
				next, extra = extra[0], extra[1:]
			}
			step(next)
		}
		for i := range p.Inputs {
			if v, ok := m.readings[i]; ok {
				s.Read(m.at, i, v, 0)
			}
		}
		step(m.at)
		if always {
			step(m.at) // again, with nothing new
		}
	}
	return out
}

// Evaluating at extra instants with nothing new changes no transition; and
// computing only what changed gives what computing everything gives.
func TestExtraInstantsChangeNothing(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		text := sheettest.Job(t)
		job, found := sheet.Parse([]sheet.Source{{Name: "a.rct", Text: []byte(text)}})
		require.False(t, sheet.HasErrors(found), "%v", found)
		p, err := Compile(job)
		require.NoError(t, err)
		all := moments(t, p)
		extra := rapid.SliceOfN(rapid.Int64Range(all[0].at+1, all[len(all)-1].at), 0, 20).Draw(t, "extra")
		slices.Sort(extra)
		plain := drive(p, all, nil, false)
		require.Equal(t, plain, drive(p, all, extra, true), text)
		require.Equal(t, plain, drive(p, all, extra, false), text)
	})
}

// No time lies beyond the end of time.
func TestAfter(t *testing.T) {
	require.Equal(t, int64(never), after(math.MaxInt64-5, 10))
	require.Equal(t, int64(15), after(5, 10))
}

// A change of a delay's setpoint counts for a delay that is running, from its
// beginning.
func TestDelayIsChangedWhileItRuns(t *testing.T) {
	job, found := sheet.Parse([]sheet.Source{{Name: "a.rct", Text: []byte(
		"job \"x\"\ninput k discrete\nsetpoint pause 60 s\n  allow 1..90 s\noutput o\n  fail off\nrule r\n  on when k for pause\n  call o\n")}})
	require.Empty(t, found)
	p, err := Compile(job)
	require.NoError(t, err)
	for _, c := range []struct {
		pause float64
		want  int64
	}{{20, 20e9}, {5, 10e9}, {80, 80e9}} {
		s := NewStepper(p)
		s.Read(0, 0, 1, 0)
		s.MustStep(0)
		s.Set(0, c.pause)
		made := s.MustStep(10e9)
		if c.want > 10e9 {
			require.Empty(t, made)
			require.Equal(t, c.want, s.Next())
			made = s.MustStep(s.Next())
		}
		require.Len(t, made, 2)
		require.Equal(t, c.want, made[0].Time)
	}
}
