package logic

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const threePumps = `job "Drum filters"
  settle 2 s
  starts apart 3 s
input dirty discrete
output first
  minimum on 5 s
  fail off
output second
  fail off
output third
  fail off
rule washing
  on when dirty
  call first, second, third
`

// Outputs that are to turn on at one time do so one after the other, in the order of the sheet, with the reason; what turns off
// waits for nobody, and what the plant has on already is no start.
func TestStartsApart(t *testing.T) {
	p := compiled(t, threePumps)
	s := NewStepper(p)
	dirty := p.Index(InputKind, "dirty")
	s.Read(0, dirty, 1, 0)
	assert.Equal(t, []string{"washing off→on: dirty is on", "first off→on: called by washing", "second off→on: called by washing",
		"third off→on: called by washing"}, step(t, s, 0), "nothing is started while it settles")
	assert.Equal(t, []string{
		"second on→off: called by washing, but another output has just turned on, and starts are 3 s apart",
		"third on→off: called by washing, but another output has just turned on, and starts are 3 s apart",
	}, step(t, s, 2))
	third := s.Standing(Ref{OutputKind, 2})
	assert.Equal(t, "called by washing, but another output has just turned on, and starts are 3 s apart", p.Sentence(third, nil))
	assert.Equal(t, []string{"second off→on: called by washing, 3 s after another output had turned on"}, step(t, s, 5))
	assert.Equal(t, []string{"third off→on: called by washing, 3 s after another output had turned on"}, step(t, s, 8))
	s.Read(9e9, dirty, 0, 0)
	require.Len(t, step(t, s, 9), 4, "all turn off at once")
	s.Read(10e9, dirty, 1, 0)
	assert.Equal(t, []string{"washing off→on: dirty is on"}, step(t, s, 10), "8 s was the last start")
	assert.Equal(t, []string{"first off→on: called by washing, 3 s after another output had turned on"}, step(t, s, 11))

	s.Restart()
	for i := range p.Outputs {
		s.Found(i, Stand{State: On})
	}
	step(t, s, 20)
	s.Read(21e9, dirty, 1, 0)
	assert.Equal(t, []string{"washing undecided→on: decided again: dirty is on"}, step(t, s, 30), "what the plant has on goes on")
}
