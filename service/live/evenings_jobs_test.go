package live_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
)

// A spec is a random job, as a naive reader knows it.
type spec struct {
	settle, apart int // seconds
	outs          []outSpec
	rules         []ruleSpec
	loop          bool
}

// An outSpec is an output of one.
type outSpec struct {
	name          string
	rack, unit    int // the first or the second, and the device there
	coil          int
	fail          string
	minOn, minOff int
	interlock     bool // when the trip contact is on
}

// A ruleSpec is a rule of one: it is on above or below a value, for so many seconds, and off again beyond another.
type ruleSpec struct {
	name     string
	input    string
	above    bool
	at, back float64
	on, off  int
	latch    bool
	calls    string
}

// randomSpec returns one.
func randomSpec(r *rand.Rand) spec {
	s := spec{settle: 1 + r.IntN(3), loop: r.IntN(2) == 0}
	if r.IntN(3) == 0 {
		s.apart = 2
	}
	for i := range 2 + r.IntN(3) {
		s.outs = append(s.outs, randomOut(r, i, s.outs))
		s.rules = append(s.rules, randomRule(r, i, s.outs[i].name))
	}
	return s
}

func randomOut(r *rand.Rand, i int, others []outSpec) outSpec {
	o := outSpec{name: fmt.Sprintf("p%d", i), rack: r.IntN(2), fail: []string{"off", "hold", "on"}[r.IntN(3)], interlock: r.IntN(2) == 0}
	if o.rack == 1 {
		o.unit = r.IntN(2)
	}
	o.minOff = []int{0, 8, 20}[r.IntN(3)]
	o.minOn = []int{0, 0, 10}[r.IntN(3)]
	for o.coil = r.IntN(5); slices.ContainsFunc(others, func(x outSpec) bool { return x.rack == o.rack && x.coil == o.coil }); {
		o.coil = (o.coil + 1) % 10
	}
	return o
}

func randomRule(r *rand.Rand, i int, calls string) ruleSpec {
	x := ruleSpec{name: fmt.Sprintf("r%d", i), input: []string{"level", "level", "flow"}[r.IntN(3)], above: r.IntN(2) == 0, calls: calls}
	x.on, x.off = []int{0, 3, 6, 15}[r.IntN(4)], []int{0, 6}[r.IntN(2)]
	x.at = float64(300+100*r.IntN(4)) + 50
	x.back = x.at - 200
	if !x.above {
		x.back = x.at + 200
	}
	x.latch = r.IntN(6) == 0
	return x
}

// neighbour returns the job with one thing changed.
func (s spec) neighbour(r *rand.Rand) spec {
	n := s
	n.outs, n.rules = slices.Clone(s.outs), slices.Clone(s.rules)
	i := r.IntN(len(n.outs))
	o := &n.outs[i]
	switch r.IntN(9) {
	case 0: // wired elsewhere
		fresh := randomOut(r, i, n.outs)
		o.rack, o.unit, o.coil = fresh.rack, fresh.unit, fresh.coil
	case 1:
		o.interlock = !o.interlock
	case 2:
		o.fail = []string{"off", "hold", "on"}[r.IntN(3)]
	case 3:
		o.minOff = []int{0, 8, 20}[r.IntN(3)]
	case 4:
		o.minOn = []int{0, 10}[r.IntN(2)]
	case 5: // one more, or one less
		if len(n.outs) > 2 {
			n.outs, n.rules = n.outs[:len(n.outs)-1], n.rules[:len(n.rules)-1]
			break
		}
		k := len(n.outs)
		n.outs = append(n.outs, randomOut(r, k, n.outs))
		n.rules = append(n.rules, randomRule(r, k, n.outs[k].name))
	case 6:
		n.rules[i] = randomRule(r, i, o.name)
	case 7:
		n.apart = 2 - n.apart
	default:
		n.rules[i].on = []int{0, 3, 6, 15}[r.IntN(4)]
	}
	return n
}

var deviceNames = [2][2]string{{"d0", "d0"}, {"d1", "d2"}}

// text writes the job.
func (s spec) text() string {
	var b strings.Builder
	fmt.Fprintf(&b, "job \"Evening\"\n  settle %d s\n", s.settle)
	if s.apart > 0 {
		fmt.Fprintf(&b, "  starts apart %d s\n", s.apart)
	}
	for i, at := range []string{first + "\" unit 1", second + "\" unit 1", second + "\" unit 2"} {
		fmt.Fprintf(&b, "device d%d modbus tcp \"%s\n  poll 500 ms\n  timeout 400 ms\n", i, at)
	}
	b.WriteString("input level\n  source d0 input 0 real\n  unit mm\ninput flow\n  source d1 input 0 real\n  unit L/s\n" +
		"input trip discrete\n  source d0 discrete 0\ninput far discrete\n  source d2 discrete 1\n")
	for _, o := range s.outs {
		fmt.Fprintf(&b, "output %s\n  drives %s coil %d\n  fail %s\n", o.name, deviceNames[o.rack][o.unit], o.coil, o.fail)
		if o.interlock {
			b.WriteString("  interlock when trip\n")
		}
		if o.minOn > 0 {
			fmt.Fprintf(&b, "  minimum on %d s\n", o.minOn)
		}
		if o.minOff > 0 {
			fmt.Fprintf(&b, "  minimum off %d s\n", o.minOff)
		}
	}
	for _, x := range s.rules {
		b.WriteString(x.text())
	}
	if s.loop {
		b.WriteString("output valve analog 0..100 %\n  drives d0 holding 10 real\n  fail hold\nloop l\n  keep level at 450 mm\n  acting reverse\n" +
			"  proportional band 2000 mm\n  integral 60 s\n  every 1 s\n  call valve\n")
	}
	return b.String()
}

func (x ruleSpec) text() string {
	unit, op, back := "mm", ">", "<"
	if x.input == "flow" {
		unit = "L/s"
	}
	if !x.above {
		op, back = "<", ">"
	}
	text := fmt.Sprintf("rule %s\n  on when %s %s %g %s", x.name, x.input, op, x.at, unit)
	if x.on > 0 {
		text += fmt.Sprintf(" for %d s", x.on)
	}
	if x.latch {
		text += fmt.Sprintf("\n  latch\n  reset when %s %s %g %s", x.input, back, x.back, unit)
	} else {
		text += fmt.Sprintf("\n  off when %s %s %g %s", x.input, back, x.back, unit)
		if x.off > 0 {
			text += fmt.Sprintf(" for %d s", x.off)
		}
	}
	return text + fmt.Sprintf("\n  call %s\n", x.calls)
}

// is reports whether a value puts the rule on (want) or off, if it lasts.
func (x ruleSpec) is(v float64, want bool) bool {
	if x.above == want {
		return v > map[bool]float64{true: x.at, false: x.back}[want]
	}
	return v < map[bool]float64{true: x.at, false: x.back}[want]
}
