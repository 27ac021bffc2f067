package logic

import (
	"math"
	"slices"
)

func (s *Stepper) stepValues() {
	for word := range s.newValues {
		for i, some := s.newValues.take(word); some; i, some = s.newValues.take(word) {
			s.values[i], s.known[i] = s.value(&s.p.values[i])
		}
	}
}

func (s *Stepper) value(n *valueNode) (v float64, known bool) {
	switch n.op {
	case valueConst:
		return n.k, true
	case valueSetting:
		return s.settings[n.a], true
	case valueInput:
		return s.inputValue(n.a)
	case valueOutput:
		return s.outputs[n.a].level, true
	case valueAdd:
		return s.values[n.a] + s.values[n.b], s.known[n.a] && s.known[n.b]
	case valueSub:
		return s.values[n.a] - s.values[n.b], s.known[n.a] && s.known[n.b]
	case valueMul:
		return s.values[n.a] * s.values[n.b], s.known[n.a] && s.known[n.b]
	case valueDiv:
		return s.values[n.a] / s.values[n.b], s.known[n.a] && s.known[n.b] && s.values[n.b] != 0
	case valueNegate:
		return -s.values[n.a], s.known[n.a]
	}
	if n.op.isFunc() {
		return s.function(n)
	}
	return convert(s.p.conversions[n.b], s.values[n.a]), s.known[n.a]
}

// function computes min, max, average, median or abs. Average and median leave
// out what is not known, and are not known themselves when nothing is.
func (s *Stepper) function(n *valueNode) (v float64, known bool) {
	args := s.p.args[n.a : n.a+n.b]
	some := s.some[:0]
	for _, a := range args {
		if s.known[a] {
			some = append(some, s.values[a])
		}
	}
	switch all := len(some) == len(args); {
	case len(some) == 0:
		return 0, false
	case n.op == valueAbs:
		return math.Abs(some[0]), all
	case n.op == valueMin:
		return slices.Min(some), all
	case n.op == valueMax:
		return slices.Max(some), all
	case n.op == valueAverage:
		sum := 0.0
		for _, x := range some {
			sum += x
		}
		return sum / float64(len(some)), true
	}
	slices.Sort(some)
	if k := len(some) / 2; len(some)%2 == 0 {
		return (some[k-1] + some[k]) / 2, true
	}
	return some[len(some)/2], true
}
