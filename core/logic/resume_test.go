package logic_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rectura/core/logic"
)

// A job before a change of its text, and after it: what could not be taken over, and
// what happens then. `~` in a text stands for what changes.
func TestTakingOver(t *testing.T) {
	const head = "job \"Takes over\"\n  settle 3 s\ninput x\n  unit mg/L\ninput y\n  unit mg/L\ninput k discrete\n"
	const lamp = "output o\n  fail off\n"
	for _, c := range []struct {
		name, text, before, after string // a text, and what stands in place of its ~
		first, then               string // what happens before and after
		lost, want                string
	}{
		{"nothing changes", head + lamp + "rule r\n  on when x < 6 mg/L for 45 s\n  call o\n# ~\n", "a note", "another",
			"0 x=7 y=1 k=0\n10 x=5", "54 x=5\n60 x=5", "",
			"55s r off→on: x 5 mg/L < 6 mg/L for 45 s, since 10s\n55s o off→on: called by r\n"},
		{"a delay that is longer now, of a rule that is on: it stays on, its delay has run out",
			head + lamp + "rule r\n  on when x < 6 mg/L for ~\n  call o\n", "45 s", "60 s",
			"0 x=7 y=1 k=0\n10 x=5\n60 x=5", "61 x=5\n70 x=7", "r: its `on when … for` has changed: it stays on, and the delay has run out\n",
			"70s r on→off: x 7 mg/L >= 6 mg/L\n70s o on→off: no longer called by r\n"},
		{"a delay that is longer now, of a rule that is off: it starts again",
			head + lamp + "rule r\n  on when x < 6 mg/L for ~\n  call o\n", "45 s", "60 s",
			"0 x=7 y=1 k=0\n10 x=5\n50 x=5", "51 x=5\n120 x=5", "r: its `on when … for` has changed: it starts anew\n",
			"111s r off→on: x 5 mg/L < 6 mg/L for 1 min, since 51s\n111s o off→on: called by r\n"},
		{"comparisons of a rule that is on start tripped: it holds within the new hysteresis",
			head + lamp + "rule r\n  on when x < 6 mg/L hysteresis ~\n  call o\n", "0.2 mg/L", "0.5 mg/L",
			"0 x=7 y=1 k=0\n10 x=5.9\n20 x=6.1", "30 x=6.3\n31 x=6.6", "r: its `on when` has changed: it stays on until that lets it go\n",
			"31s r on→off: x 6.6 mg/L >= 6.5 mg/L (reset point of x < 6 mg/L hysteresis 0.5 mg/L)\n31s o on→off: no longer called by r\n"},
		{"those under a not start reset",
			head + lamp + "rule r\n  on when not x < 6 mg/L hysteresis ~\n  call o\n", "0.2 mg/L", "0.5 mg/L",
			"0 x=5 y=1 k=0\n10 x=6.2", "30 x=6.1\n31 x=5.9", "r: its `on when` has changed: it stays on until that lets it go\n",
			"31s r on→off: x 5.9 mg/L < 6 mg/L\n31s o on→off: no longer called by r\n"},
		{"what is unchanged of a rule keeps its delay",
			head + "output o\n  called by any\n  fail off\n" + "rule r\n  on when x < 6 mg/L\n  off after ~\n  call o\nrule q\n  on when y < 6 mg/L for 45 s\n  call o\n", "10 s", "20 s",
			"0 x=7 y=7 k=0\n10 x=5 y=5\n20 x=7", "25 x=7\n60 x=7", "r: its `off after` has changed: it starts anew\n",
			"45s r on→off: x 7 mg/L >= 6 mg/L for 20 s, since 25s\n45s o on→off: no longer called by r\n55s q off→on: y 5 mg/L < 6 mg/L for 45 s, since 10s\n55s o off→on: called by q\n"},
		{"a latch keeps its state, whatever changes",
			head + lamp + "rule r\n  on when x < ~\n  latch\n  call o\n", "6 mg/L", "5 mg/L",
			"0 x=7 y=1 k=0\n10 x=5.5\n20 x=7", "30 x=7\n31 reset:r", "r: its `on when` has changed: it stays on until that lets it go\n",
			"31s r on→off: reset by a person; x 7 mg/L >= 5 mg/L\n31s o on→off: no longer called by r\n"},
		{"an alarm keeps its acknowledgement and its shelving",
			head + "alarm a \"Low\"\n  priority high\n  on when x < ~\n", "6 mg/L", "5.5 mg/L",
			"0 x=7 y=1 k=0\n10 x=5\n11 acknowledge:a", "30 x=5", "a: its `on when` has changed: it stays on until that lets it go\n",
			""},
		{"a setpoint as set, written in another unit, is the quantity that it was",
			head + lamp + "setpoint low ~\nrule r\n  on when x < low\n  call o\n", "6 mg/L", "6000 ug/L",
			"0 x=5.5 y=1 k=0\n10 set:low=5_mg/L", "11 x=5.1\n12 x=4.9", "",
			"12s r off→on: x 4.9 mg/L < low 5 mg/L\n12s o off→on: called by r\n"},
		{"a setpoint as set whose written value has changed is as it is written",
			head + lamp + "setpoint low ~\nrule r\n  on when x < low\n  call o\n", "6 mg/L", "7 mg/L",
			"0 x=7 y=1 k=0\n10 set:low=5_mg/L", "11 x=6.9", "low: it was set to 5 mg/L; what is written has changed to 7 mg/L, which counts\n",
			"11s r off→on: x 6.9 mg/L < low 7 mg/L\n11s o off→on: called by r\n"},
		{"a setpoint as set that is outside its limits now is as it is written",
			head + lamp + "setpoint low 6 mg/L\n  allow ~ mg/L\nrule r\n  on when x < low\n  call o\n", "4..8", "5.5..8",
			"0 x=7 y=1 k=0\n10 set:low=5_mg/L", "11 x=5.9", "low: it was set to 5 mg/L, which is outside its limits now; the written 6 mg/L counts\n",
			"11s r off→on: x 5.9 mg/L < low 6 mg/L\n11s o off→on: called by r\n"},
		{"an input whose chain has changed is not read yet, and what depends on it settles anew",
			"job \"Takes over\"\n  settle 3 s\ninput x\n  scale 4..20 mA to 0..~ mg/L\n" + "output o\n  fail on\nrule r\n  on when x < 6 mg/L\n  call o\n", "20", "10",
			"0 x=8.8\n10 x=16", "11\n12\n20", "x: its source, its chain or its filters have changed: it is not read yet\n",
			"11s r off→undecided: x is not read yet\n13s o off→on: r undecided: fails to on\n"},
		{"what is dropped, new and renamed",
			head + "output ~\n  fail off\nrule r\n  on when x < 6 mg/L\n  call ~\n", "o", "o2",
			"0 x=7 y=1 k=0\n10 x=5", "11 x=5", "o: it is no part of the job any more\n", "11s o2 off→on: called by r\n"},
		{"what a name stands for is of another kind",
			head + lamp + "~ x < 6 mg/L\n  call o\n", "rule r\n  on when", "alarm r \"Low\"\n  priority high\n  on when",
			"0 x=7 y=1 k=0\n10 x=5", "11 x=5", "r: it was a rule and is an alarm\n",
			"11s r normal→active: x 5 mg/L < 6 mg/L\n"},
		{"an output in hand stays so, and one that is kept off",
			head + lamp + "output q\n  fail off\nrule r\n  on when x < ~\n  call o, q\n", "6 mg/L", "7 mg/L",
			"0 x=5 y=1 k=0\n10 hand:o=on off:q\n20 x=8", "21 x=8\n22 auto:o auto:q", "r: its `on when` has changed: it starts anew\n",
			"22s o on→off: no longer called by r\n"},
		{"minimum times go on",
			head + "output o\n  minimum on 30 s\n  fail off\nrule r\n  on when x < ~\n  call o\n", "6 mg/L", "5 mg/L",
			"0 x=7 y=1 k=0\n10 x=5.5", "11 x=5.5\n60 x=5.5", "r: its `on when` has changed: it stays on until that lets it go\n",
			"11s r on→off: x 5.5 mg/L >= 5 mg/L\n40s o on→off: no longer called by r, once its minimum on of 30 s had passed\n"},
		{"bands keep the one of that title",
			head + lamp + "bands b of x\n  ~: below 4 mg/L\n  mid: below 7 mg/L call o\n  high: else\n  hysteresis 0.2 mg/L\n", "low", "lower",
			"0 x=5 y=1 k=0\n10 x=5", "11 x=7.1\n12 x=7.3", "b: its limits have changed: mid stays in force until they say otherwise\n",
			"11s b mid→high: x 7.1 mg/L >= 7 mg/L\n11s o on→off: no longer called by b (mid)\n"},
		{"a loop that works otherwise starts from where its output stands",
			head + "output v analog 0..100 %\n  fail off\nloop l\n  keep x at 5 mg/L\n  acting reverse\n  proportional band ~\n  integral 60 s\n  every 1 s\n  call v\n", "4 mg/L", "8 mg/L",
			"0 x=4 y=1 k=0\n1 x=4", "2 x=4\n3 x=4", "l: it works otherwise: it starts from where its output stands\n",
			"3s v 25.42 %→25.62 %: called by l\n"},
		{"one without an integral may jump",
			head + "output v analog 0..100 %\n  fail off\nloop l\n  keep x at 5 mg/L\n  acting reverse\n  proportional band ~\n  bias 50 %\n  every 1 s\n  call v\n", "4 mg/L", "8 mg/L",
			"0 x=4 y=1 k=0\n1 x=4", "2 x=4", "l: it works otherwise and has no integral: it starts anew, and its output may jump\n",
			"2s v 75 %→62.5 %: called by l\n"},
		{"an output whose range has changed",
			head + "output v analog 0..~\n  fail off\nrule r\n  on when x < 6 mg/L\n  call v at 40 %\n", "100 %", "50 %",
			"0 x=7 y=1 k=0\n10 hand:v=80_%", "11 x=7\n12 auto:v", "v: it was in hand at 80 %, which is outside its range now: it is at 50 %\n",
			"12s v 50 %→0 %: no longer called by r\n"},
		{"an output that is driven otherwise",
			head + "output v ~\n  fail off\n", "", "analog 0..100 %",
			"0 x=7 y=1 k=0\n10 hand:v=on", "11 x=7", "v: it is driven in another way: it starts anew, and its callers decide\n",
			""},
	} {
		t.Run(c.name, func(t *testing.T) {
			before, after := compile(t, strings.ReplaceAll(c.text, "~", c.before)), compile(t, strings.ReplaceAll(c.text, "~", c.after))
			s := logic.NewStepper(before)
			goOn(t, s, c.first)
			s, lost, err := logic.Resume(after, s.Save(false))
			require.NoError(t, err)
			var missing strings.Builder
			for _, l := range lost {
				fmt.Fprintf(&missing, "%s: %s\n", l.Name, l.Text)
			}
			assert.Equal(t, c.lost, missing.String())
			assert.Equal(t, c.want, goOn(t, s, c.then))
		})
	}
}

// What is announced, acknowledged and silenced belongs to an alarm, whatever becomes of
// its condition.
func TestAlarmsAreTakenOver(t *testing.T) {
	const text = "job \"Takes over\"\ninput x\n  unit mg/L\nalarm a \"Low\"\n  priority high\n  on when x < ~\nalarm b \"Lower\"\n  priority low\n  on when x < ~\nalarm c \"Out\"\n  priority low\n  on when x < ~\n"
	s := logic.NewStepper(compile(t, strings.ReplaceAll(text, "~", "6 mg/L")))
	goOn(t, s, "0 x=7\n10 x=5\n11 acknowledge:a out-of-service:c")
	shelve := command(t, s.Program(), "shelve", "b", "")
	shelve.For = 60e9
	_, err := s.Command(shelve)
	require.NoError(t, err)
	goOn(t, s, "12")
	after, lost, err := logic.Resume(compile(t, strings.ReplaceAll(text, "~", "5.5 mg/L")), s.Save(false))
	require.NoError(t, err)
	assert.Len(t, lost, 3)
	states := func() (all []string) {
		for i := range after.Program().Alarms {
			a := after.Alarm(i)
			all = append(all, a.String())
		}
		return all
	}
	goOn(t, after, "13 x=5")
	assert.Equal(t, []string{"active, acknowledged", "active, unacknowledged, shelved", "active, unacknowledged, out of service"}, states())
	goOn(t, after, "73 x=5")
	assert.Equal(t, []string{"active, acknowledged", "active, unacknowledged", "active, unacknowledged, out of service"}, states())
}

func command(t require.TestingT, p *logic.Program, do, name, value string) logic.Command {
	c, err := p.Command(do, name, value)
	if do != "shelve" {
		require.NoError(t, err)
	}
	return c
}

// After a restart every input is not read yet and the job settles anew; what was
// decided stays, and what had an end has gone on towards it.
func TestRestart(t *testing.T) {
	const head = "job \"Comes back\"\n  settle 3 s\ninput x\n  unit mg/L\ninput k discrete\noutput o\n  fail off\n"
	for _, c := range []struct{ name, text, first, then, want string }{
		{"a delay that had not run out starts again", head + "rule r\n  on when x < 6 mg/L for 45 s\n  call o\n",
			"0 x=7 k=0\n10 x=5\n50 x=5", "52\n61 x=5\n106 x=5",
			"52s r off→undecided: x is not read yet\n61s r undecided→off: decided again: x 5 mg/L < 6 mg/L from now on, and must last 45 s\n106s r off→on: x 5 mg/L < 6 mg/L for 45 s, since 61s\n106s o off→on: called by r\n"},
		{"one that had run out stays", head + "rule r\n  on when x < 6 mg/L for 45 s\n  call o\n",
			"0 x=7 k=0\n10 x=5\n56 x=5", "60\n61 x=5\n70 x=5",
			"60s r on→undecided: x is not read yet\n61s r undecided→on: decided again: x 5 mg/L < 6 mg/L\n"},
		{"what cannot be read fails when the job has settled", head + "rule r\n  on when x < 6 mg/L\n  call o\n",
			"0 x=7 k=0\n10 x=5", "60\n70",
			"60s r on→undecided: x is not read yet\n63s o on→off: r undecided: fails to off\n"},
		{"a pulse goes on by the time that has passed", head + "rule r\n  on when x < 6 mg/L\n  pulse 30 s\n  call o\n",
			"0 x=7 k=0\n10 x=5", "20\n21 x=5\n45 x=5", "40s r on→off: its pulse of 30 s has ended\n40s o on→off: no longer called by r\n"},
		{"a latch holds through an interlock that is only unknown", head + "rule r\n  on when x < 6 mg/L\n  latch\n  interlock when k\n  call o\n",
			"0 x=7 k=0\n10 x=5", "20\n21 x=7 k=0\n40", ""},
		{"a hand that is off stays, and a pin", head + "rule r\n  on when x < 6 mg/L\n  call o\n",
			"0 x=7 k=0\n10 off:o pin:x=5", "20\n21 x=7\n40 auto:o",
			"40s o off→on: called by r\n"},
		{"messages at the start are sent again", head + "recipient duty email \"duty@fennick.example\"\nmessage m\n  at start\n  send x to duty\n",
			"0 x=7 k=0\n10 x=5", "20 x=5", "20s m →sent: at the start; sends x 5 mg/L to duty\n"},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := logic.NewStepper(compile(t, c.text))
			goOn(t, s, c.first)
			s, lost, err := logic.Resume(s.Program(), s.Save(false))
			require.NoError(t, err)
			assert.Empty(t, lost)
			s.Restart()
			assert.Equal(t, c.want, goOn(t, s, c.then))
		})
	}
}

// A row that was damaged, or made up, is refused or taken; nothing panics, nor later.
func FuzzResume(f *testing.F) {
	p := hatchery(f)
	s := logic.NewStepper(p)
	at := int64(0)
	for range 200 {
		at += 7e9
		for i := range p.Inputs {
			s.Read(at, i, float64(1500+(at/1e9*37+int64(i)*900)%1200), 0)
		}
		s.MustStep(at)
	}
	rows := s.Save(false)
	for i := range rows {
		f.Add(uint16(i), rows[i].Data)
	}
	f.Fuzz(func(t *testing.T, row uint16, data []byte) {
		some := append([]logic.Row(nil), rows...)
		some[int(row)%len(some)].Data = data
		s, _, err := logic.Resume(p, some)
		if err != nil {
			return
		}
		next := max(at, s.Next())
		for i := range p.Inputs {
			s.Read(next, i, 2000, 0)
		}
		made, err := s.Step(next)
		if err != nil { // it remembers a later instant
			return
		}
		for _, tr := range made {
			p.Sentence(tr, nil)
		}
		s.Save(false)
		s.Shift(1e9)
		s.Restart()
		_, err = s.Step(next + 2e9)
		require.NoError(t, err)
	})
}
