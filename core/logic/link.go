package logic

import (
	"fmt"
	"math/bits"
	"slices"

	"rectura/core/sheet/visits"
)

// links are what must be computed anew when something changes, so that the
// cost of an instant grows with what it changes and not with the job.
type links struct {
	inputValues  lists   // by input: the values that depend on it, however far
	inputConds   lists   // by input: the comparisons and contacts that do
	condConds    lists   // by condition: those directly made of it
	outputConds  lists   // by output: the conditions that name it
	outputValues lists   // by output: the values that depend on that of an analog one
	valueInputs  lists   // by value: the inputs it depends on, in order, and the analog outputs as their complements
	condOutputs  lists   // by condition: the outputs that look at it
	settling     []int32 // conditions that the end of settling may change
	plain        []int32 // by input: its value if it is plain, or -1
	idle         []bool  // by condition: it works out a follow or a loop at whose output nobody looks
	overlooked   []int32 // plain, where what is idle is left out
}

// lists are many short lists in one array.
type lists struct {
	start []int32
	items []int32
}

func newLists(all [][]int32) lists {
	l := lists{start: make([]int32, 1, len(all)+1)}
	for _, items := range all {
		l.items = append(l.items, items...)
		l.start = append(l.start, int32(len(l.items)))
	}
	return l
}

func (l *lists) of(i int32) []int32 { return l.items[l.start[i]:l.start[i+1]] }

// maxReads bounds the links between values and the inputs behind them, of a whole
// job: a chain of very many sums, each of the one before and one input more, has
// as many as the square of its length.
const maxReads = 2_000_000

// A limitError says that a job has passed a limit that shows only once it is
// compiled.
type limitError string

func (e limitError) Error() string { return string(e) }

func tooManyReads(what string) error {
	return limitError(
		fmt.Sprintf("the %s of this job depend on inputs at more than %d places; divide it into several jobs", what, maxReads),
	)
}

// link works out the links of a program whose nodes are complete.
func (p *Program) link() error {
	inputValues := make([][]int32, len(p.Inputs))
	inputConds := make([][]int32, len(p.Inputs))
	condConds := make([][]int32, len(p.conds))
	outputConds := make([][]int32, len(p.Outputs))
	outputValues := make([][]int32, len(p.Outputs))
	reads := make([][]int32, len(p.values)) // by value: the inputs it depends on, and the analog outputs as their complements
	seen := map[int32]bool{}
	merged := func(values ...int32) []int32 {
		var all []int32
		clear(seen)
		for _, v := range values {
			if v < 0 {
				continue
			}
			for _, input := range reads[v] {
				visits.Add()
				if !seen[input] {
					seen[input] = true
					all = append(all, input)
				}
			}
		}
		slices.Sort(all)
		return all
	}
	total := 0
	for v := range p.values {
		n := &p.values[v]
		switch n.op {
		case valueConst, valueSetting:
		case valueInput:
			reads[v] = []int32{n.a}
		case valueOutput:
			reads[v] = []int32{^n.a}
		case valueNegate, valueConvert:
			reads[v] = reads[n.a]
		default:
			reads[v] = merged(p.valueArgs(n)...)
		}
		if total += len(reads[v]); total > maxReads {
			return tooManyReads("values")
		}
		for _, input := range reads[v] {
			if input < 0 {
				outputValues[^input] = append(outputValues[^input], int32(v))
				continue
			}
			inputValues[input] = append(inputValues[input], int32(v))
		}
	}
	k := &linker{
		p:           p,
		merged:      merged,
		inputConds:  inputConds,
		condConds:   condConds,
		outputConds: outputConds,
		total:       total,
	}
	for c := range p.conds {
		if k.total > maxReads {
			return tooManyReads("conditions")
		}
		n := &p.conds[c]
		operations[n.op].link(k, int32(c), n)
	}
	p.links = links{
		newLists(inputValues),
		newLists(inputConds),
		newLists(condConds),
		newLists(outputConds),
		newLists(outputValues),
		newLists(reads),
		newLists(p.lookingOutputs()),
		p.settlingConds(),
		nil,
		nil,
		nil,
	}
	p.links.idle = p.idleConds()
	p.links.plain = p.plainValues(make([]bool, len(p.conds)))
	p.links.overlooked = p.plainValues(p.links.idle)
	return nil
}

// A linker collects what conditions look at.
type linker struct {
	p                                  *Program
	merged                             func(values ...int32) []int32
	inputConds, condConds, outputConds [][]int32
	total                              int
}

// values makes a condition look at values, and so at what these are made of.
func (k *linker) values(i int32, values ...int32) {
	for _, input := range k.merged(values...) {
		k.total++
		if input < 0 {
			k.outputConds[^input] = append(k.outputConds[^input], i)
			continue
		}
		k.inputConds[input] = append(k.inputConds[input], i)
	}
}

// conds makes a condition look at others, each once; -1 is none.
func (k *linker) conds(i int32, conds ...int32) {
	seen := map[int32]bool{-1: true}
	for _, c := range conds {
		if !seen[c] {
			seen[c] = true
			k.condConds[c] = append(k.condConds[c], i)
		}
	}
}

// lookingOutputs are, by condition, the outputs that look at it: those that it calls, whose
// guard it is, or of which a caller has it for its interlock.
func (p *Program) lookingOutputs() [][]int32 {
	all := make([][]int32, len(p.conds))
	for i := range p.Outputs {
		look := func(cond int32) {
			if cond >= 0 && !slices.Contains(all[cond], int32(i)) {
				all[cond] = append(all[cond], int32(i))
			}
		}
		look(p.Outputs[i].permissive)
		look(p.Outputs[i].interlock)
		for _, c := range p.Callers(i) {
			caller := &p.Calling[c]
			look(caller.node)
			if caller.Kind == RuleKind {
				look(p.Rules[caller.Index].interlock)
			}
		}
	}
	return all
}

// settlingConds are the conditions that ask whether the job has settled: rules with
// an interlock, and the alarms of bad inputs.
func (p *Program) settlingConds() []int32 {
	var all []int32
	for i := range p.conds {
		n := &p.conds[i]
		if n.op == condRule && p.Rules[n.a].interlock >= 0 || n.op == condGood && n.n == 1 {
			all = append(all, int32(i))
		}
	}
	return all
}

// values are those that a condition directly compares, or -1.
func (n *condNode) values() [4]int32 {
	switch n.op {
	case condChanges, condRising, condFalling:
		return [4]int32{n.a, -1, -1, -1}
	case condCrosses:
		return [4]int32{n.a, n.b, -1, -1}
	case condBetween, condOutside, condNear:
		return [4]int32{n.a, n.b, n.n, n.hysteresis}
	}
	return [4]int32{n.a, n.b, n.deadband, n.hysteresis}
}

// marks is a set of small numbers that is gone through in order.
type marks []uint64

func newMarks(n int) marks { return make(marks, (n+63)/64) }

func (m marks) add(i int32) { m[i>>6] |= 1 << (i & 63) }

func (m marks) addAll(items []int32) {
	for _, i := range items {
		m.add(i)
	}
}

// count is how many are marked.
func (m marks) count() (n int) {
	for _, word := range m {
		n += bits.OnesCount64(word)
	}
	return n
}

// fill puts the first n numbers in.
func (m marks) fill(n int) {
	for i := range n {
		m.add(int32(i))
	}
}

// take removes the smallest number in a word of the set; what is added
// meanwhile behind it is still met.
func (m marks) take(word int) (i int32, some bool) {
	w := m[word]
	if w == 0 {
		return 0, false
	}
	bit := bits.TrailingZeros64(w)
	m[word] = w & (w - 1)
	return int32(word<<6 | bit), true
}
