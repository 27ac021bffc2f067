package logic

import (
	"errors"
	"fmt"
	"slices"
	"time"

	"rectura/core/sheet"
	"rectura/core/sheet/visits"
	"rectura/core/signal"
	"rectura/core/unit"
)

// Compile makes a Program of a job that was checked without errors. An error
// means that it was not.
func Compile(job *sheet.Job) (*Program, error) {
	p, _, err := CompileWith(job, nil)
	return p, err
}

// CompileWith is Compile with further conditions that somebody wants to watch;
// it gives their numbers, for Stepper.Watch.
func CompileWith(job *sheet.Job, watched []sheet.Condition) (*Program, []int32, error) {
	c := &compiler{
		prints:      map[string]uint64{},
		p:           &Program{Job: job, index: map[string]Ref{}, derived: map[int32]int32{}},
		shared:      map[valueNode]int32{},
		conversions: map[conversion]int32{},
		types:       sheet.NewTyper(job),
		calls:       map[string][]int32{},
		callers:     map[Caller]int32{},
	}
	c.p.numberDeclarations(job)
	for i, in := range slices.Concat(job.Inputs, job.Watched) {
		c.p.workings = append(c.p.workings, printText(in.Working()))
		node := Input{Name: in.Name, Inverted: in.Inverted != nil, junction: -1, badRule: -1}
		length := func(d *sheet.Duration) int64 {
			node.retimed = node.retimed || d.Name != ""
			return job.DurationValue(d)
		}
		if !in.Discrete {
			node.Chain = signal.NewChain(in, length)
			node.timed = node.Chain.Timed()
		} else if in.Debounce != nil {
			node.debounce = length(in.Debounce.Duration)
		}
		c.p.Inputs = append(c.p.Inputs, node)
		c.p.index[in.Name] = Ref{InputKind, int32(i)}
	}
	for i, in := range job.Inputs {
		if name := in.JunctionName(); name != "" {
			c.p.Inputs[i].junction = c.p.Index(InputKind, name)
			c.p.Inputs[c.p.Inputs[i].junction].used = true
			c.p.junctions = append(c.p.junctions, int32(i))
		}
	}
	for i, s := range job.Setpoints {
		c.p.Settings = append(c.p.Settings, Setting{s.Name, s.Value.Quantity()})
		c.p.index[s.Name] = Ref{SettingKind, int32(i)}
	}
	for i, o := range job.Outputs {
		c.p.index[o.Name] = Ref{OutputKind, int32(i)}
	}
	for i, d := range job.Derived {
		t, err := job.TypeOf(d.Value)
		if err != nil {
			return nil, nil, fmt.Errorf("compiling job %q: %s: %w", job.Title, d.NameAt, err)
		}
		value := c.value(d.Value, t.Unit, t.Difference)
		if _, known := c.p.derived[value]; !known {
			c.p.derived[value] = int32(i)
		}
		c.p.Derived = append(c.p.Derived, Derived{d.Name, t.Unit, value})
		c.p.index[d.Name] = Ref{DerivedKind, int32(i)}
		c.prints[d.Name] = c.printValue(d.Value)
	}
	if job.Settle != nil {
		c.p.settle = int64(c.duration(job.Settle))
	} else {
		c.p.durations = append(c.p.durations, duration{sheet.DefaultSettle, -1})
	}
	if c.p.apart = -1; job.StartsApart != nil {
		c.p.apart = int64(c.duration(job.StartsApart))
	}
	if job.Timezone != "" {
		zone, err := time.LoadLocation(job.Timezone)
		if err != nil {
			return nil, nil, fmt.Errorf("compiling job %q: %w", job.Title, err)
		}
		c.p.zone = zone
	}
	c.p.Rules = make([]Rule, len(job.Rules)+len(job.Alarms))
	for i, a := range job.Alarms {
		rule := len(job.Rules) + i
		c.p.Alarms = append(c.p.Alarms, Alarm{Name: a.Name, Rule: rule, inhibit: -1, inHand: -1})
		c.p.index[a.Name] = Ref{AlarmKind, int32(i)}
	}
	for i, r := range job.Rules {
		c.p.index[r.Name] = Ref{RuleKind, int32(i)}
	}
	for i, b := range job.Bands {
		c.bands(b)
		c.p.index[b.Name] = Ref{BandsKind, int32(i)}
	}
	for _, r := range job.Order {
		c.rule(r)
	}
	for i, r := range job.Rules { // callers stand in the order of the sheet
		c.callAll(r.Calls(), Caller{Ref: Ref{RuleKind, int32(i)}, Name: r.Name, node: c.p.Rules[i].node})
	}
	for _, f := range job.Follows {
		c.follow(f)
	}
	for _, l := range job.Loops {
		c.loop(l)
	}
	for i, a := range job.Alarms {
		c.alarm(i, a)
	}
	for _, m := range job.Messages {
		c.message(m)
	}
	for _, o := range job.Outputs {
		c.output(o)
	}
	if c.err != nil {
		return nil, nil, fmt.Errorf("compiling job %q: %w", job.Title, c.err)
	}
	c.of = c.p.declarations()
	var numbers []int32
	c.part("", 0, func() { numbers = c.all(watched) })
	if c.err != nil {
		return nil, nil, fmt.Errorf("compiling what is watched: %w", c.err)
	}
	if err := c.p.link(); err != nil {
		return nil, nil, err
	}
	c.p.fixed = c.p.fixedAt(nil)
	clausesOf := make([][]int32, c.p.declarations()+1)
	for i := range c.p.clauses {
		of := c.p.clauses[i].of
		clausesOf[of] = append(clausesOf[of], int32(i))
	}
	c.p.clausesOf = newLists(clausesOf)
	return c.p, numbers, nil
}

type compiler struct {
	p      *Program
	shared map[valueNode]int32 // equal values are computed once
	calls  map[string][]int32  // by output: what calls it

	conversions map[conversion]int32
	types       *sheet.Typer
	prints      map[string]uint64 // of derived values
	of          int32             // the number of the declaration that is compiled
	patient     int32             // 1 for what takes an input that is not read yet for a good one while the job settles

	callers map[Caller]int32
	err     error
}

func (c *compiler) fail(err error) {
	if c.err == nil {
		c.err = err
	}
}

// guard compiles what permits and what interlocks; -1 for none.
func (c *compiler) guard(g *sheet.Guard) (permissive, interlock int32) {
	permissive, interlock = -1, -1
	if g.Permissive != nil {
		permissive = c.condition("permissive when", g.Permissive.Condition)
	}
	if g.Interlock != nil {
		name := "interlock when"
		if g.Interlock.Unless {
			name = "interlock unless"
		}
		c.part(name, c.printOf(g.Interlock.Condition), func() {
			interlock = c.cond(g.Interlock.Condition)
			if g.Interlock.Unless {
				interlock = c.addCond(condNode{op: condNot, a: interlock})
			}
		})
	}
	return permissive, interlock
}

// clause compiles the duration of a clause; -1 for none.
func (c *compiler) clause(d *sheet.DurationClause) int32 {
	if d == nil {
		return -1
	}
	return c.duration(d.Duration)
}

func (c *compiler) output(o *sheet.Output) {
	c.begins(OutputKind, len(c.p.Outputs))
	node := Output{Name: o.Name, first: int32(len(c.p.callers)), all: o.CalledBy != nil && o.CalledBy.Word == "all",
		restraints: restraints{minimumOn: c.clause(o.MinimumOn), minimumOff: c.clause(o.MinimumOff)}}
	node.permissive, node.interlock = c.guard(&o.Guard)
	c.p.callers = append(c.p.callers, c.calls[o.Name]...)
	node.count = int32(len(c.calls[o.Name]))
	if o.Fail != nil {
		node.fail = map[string]FailState{"off": FailOff, "on": FailOn, "hold": FailHold, "": FailTo}[o.Fail.Word]
	}
	if o.Range != nil {
		node.Unit, node.Low, node.High = o.Unit(), o.Range.From.Value, o.Range.To.Value
		node.lowest = o.CalledBy != nil && o.CalledBy.Word == "lowest"
		if node.fail == FailTo {
			node.failLevel = o.Fail.Value.In(node.Unit)
		}
		node.wire = wire(o)
	}
	node.inverted = o.Inverted != nil
	node.inHand = int32(c.p.Index(InputKind, o.InHand()))
	if a := c.p.Index(AlarmKind, o.HandAlarm()); node.inHand >= 0 && a >= 0 {
		c.p.Alarms[a].inHand = node.inHand
	}
	c.p.Outputs = append(c.p.Outputs, node)
}

// callAll makes a caller call outputs, analog ones with a value.
func (c *compiler) callAll(calls []*sheet.Call, by Caller) {
	for _, x := range calls {
		by.value = -1
		if x.Value != nil {
			by.value = c.value(x.Value, c.p.Job.Outputs[c.p.Index(OutputKind, x.Output.Name)].Unit(), false)
		}
		c.calls[x.Output.Name] = append(c.calls[x.Output.Name], c.caller(by))
	}
}

// caller is the number of something that calls.
func (c *compiler) caller(x Caller) int32 {
	i, known := c.callers[x]
	if !known {
		i = int32(len(c.p.Calling))
		c.p.Calling = append(c.p.Calling, x)
		c.callers[x] = i
	}
	return i
}

func (c *compiler) duration(d *sheet.Duration) int32 {
	node := duration{setting: -1}
	if d.Name == "" {
		node.nanoseconds = d.Amount.Nanoseconds()
	} else {
		node.setting = int32(c.p.Index(SettingKind, d.Name))
		if node.setting < 0 {
			c.fail(fmt.Errorf("%s: no setpoint is named %s", d.At, d.Name))
		}
	}
	c.p.durations = append(c.p.durations, node)
	return int32(len(c.p.durations) - 1)
}

func (c *compiler) addCond(n condNode) int32 {
	c.p.conds, c.p.sources = append(c.p.conds, n), append(c.p.sources, condSource{})
	return int32(len(c.p.conds) - 1)
}

func (c *compiler) terms(op condOp, terms []int32) condNode {
	n := condNode{op: op, a: int32(len(c.p.args)), b: int32(len(terms))}
	c.p.args = append(c.p.args, terms...)
	return n
}

// cond compiles a condition after those that it is made of, so that a Program
// is computed by going through its nodes once.
func (c *compiler) cond(x sheet.Condition) int32 {
	visits.Add()
	switch x := x.(type) {
	case *sheet.Group:
		return c.cond(x.X)
	case *sheet.Not:
		return c.addCond(condNode{op: condNot, a: c.cond(x.X)})
	case *sheet.For:
		if cross := x.Crossing(); cross != nil {
			return c.crosses(cross, x.Duration)
		}
		a := c.cond(x.X)
		return c.addCond(condNode{op: condFor, a: a, b: c.duration(x.Duration)})
	case *sheet.And:
		return c.addCond(c.terms(condAnd, c.all(x.Xs)))
	case *sheet.Or:
		return c.addCond(c.terms(condOr, c.all(x.Xs)))
	case *sheet.Quorum:
		n := c.terms(condQuorum, c.all(x.Xs))
		n.n = int32(x.N)
		return c.addCond(n)
	case *sheet.Test:
		return c.test(x)
	case *sheet.Compare:
		return c.compare(x)
	case *sheet.Between:
		return c.between(x)
	case *sheet.Near:
		return c.near(x)
	case *sheet.Turn:
		return c.turn(x)
	case *sheet.Cross:
		return c.crosses(x, nil)
	case *sheet.Slope:
		return c.slope(x)
	case *sheet.Daytime:
		c.p.daytimes = append(c.p.daytimes, daytime{x.From.Nanoseconds, x.To.Nanoseconds})
		return c.addFrom(condNode{op: condDaytime, n: int32(len(c.p.daytimes) - 1)}, x, unit.Unit{})
	}
	c.fail(fmt.Errorf("%s: unknown condition %T", x.Place(), x))
	return 0
}

// test compiles the state or the quality of something that has a name.
func (c *compiler) test(x *sheet.Test) int32 {
	name := x.Name.Name
	negate := x.Not
	var cond int32
	switch i := c.p.Index(InputKind, name); {
	case x.OfAlarm():
		alarm := c.p.Index(AlarmKind, name)
		if alarm < 0 {
			c.fail(fmt.Errorf("%s: %s is no alarm", x.Place(), name))
			return 0
		}
		cond = c.alarmTest(alarm, map[string]int32{"unacknowledged": alarmUnacknowledged, "shelved": alarmShelved}[x.Is])
	case x.OfBand():
		bands := c.p.Index(BandsKind, name)
		if bands < 0 {
			c.fail(fmt.Errorf("%s: %s has no bands", x.Place(), name))
			return 0
		}
		cond = c.addCond(condNode{op: condBand, a: int32(bands), b: int32(c.p.Job.Bands[bands].Find(x.Is)), n: 1})
		c.p.Bands[bands].tests = append(c.p.Bands[bands].tests, cond)
	case x.OfQuality():
		negate = negate != (x.Is == "bad")
		if i >= 0 {
			if x.Name.At != (sheet.Place{}) { // else it is of an alarm that nobody wrote
				c.p.Inputs[i].used = true
			}
			cond = c.addCond(condNode{op: condGood, a: int32(i), n: c.patient})
			break
		}
		d := c.p.Index(DerivedKind, name)
		if d < 0 {
			c.fail(fmt.Errorf("%s: %s is no signal", x.Place(), name))
			return 0
		}
		cond = c.addCond(condNode{op: condKnown, a: c.p.Derived[d].value})
		c.p.sources[cond].name = name
	default:
		negate = negate != (x.Is == "off")
		cond = c.state(x.Name)
	}
	if negate {
		return c.addCond(condNode{op: condNot, a: cond})
	}
	return cond
}

// state compiles the state of a contact, a rule or an output.
func (c *compiler) state(n *sheet.Name) int32 {
	if i := c.p.Index(InputKind, n.Name); i >= 0 && c.p.Inputs[i].Chain == nil {
		c.p.Inputs[i].used = true
		return c.addCond(condNode{op: condContact, a: int32(i)})
	}
	if r, found := c.p.Find(n.Name); found && c.p.RuleOf(r) >= 0 {
		return c.p.Rules[c.p.RuleOf(r)].node
	}
	if i := c.p.Index(OutputKind, n.Name); i >= 0 {
		return c.addCond(condNode{op: condOutput, a: int32(i)})
	}
	c.fail(fmt.Errorf("%s: %s has no state", n.At, n.Name))
	return 0
}

// turn compiles a change of something that has a state, or of a value.
func (c *compiler) turn(x *sheet.Turn) int32 {
	name := x.Name.Name
	node := condNode{op: map[string]condOp{"turns on": condTurnsOn, "turns off": condTurnsOff, "changes": condTurns}[x.How]}
	if i := c.p.Index(InputKind, name); i >= 0 && c.p.Inputs[i].Chain != nil {
		node = condNode{op: condChanges, a: c.value(x.Name, c.p.Inputs[i].Chain.Engineering(), false)}
	} else if i := c.p.Index(DerivedKind, name); i >= 0 {
		node = condNode{op: condChanges, a: c.p.Derived[i].value}
	} else if o := c.analogOutput(name); o >= 0 {
		node = condNode{op: condChanges, a: c.addValue(valueNode{op: valueOutput, a: int32(o)})}
	} else {
		node.a = c.state(x.Name)
	}
	i := c.addCond(node)
	c.p.sources[i].name = name
	return i
}

// addFrom adds a condition that explains itself with the words it was written
// in, and values in a unit.
func (c *compiler) addFrom(n condNode, x sheet.Condition, u unit.Unit) int32 {
	i := c.addCond(n)
	c.p.sources[i] = condSource{from: x, unit: u}
	return i
}

// sides are the unit in which two values are compared, that of the left one,
// and which of them are differences.
func (c *compiler) sides(l, r sheet.Expr) (u unit.Unit, left, right bool) {
	if in, _, ok := c.p.Job.AtStage(l, r); ok {
		return in.Engineering(), false, false
	}
	both, _, err := c.p.Job.CompareTypes(l, r)
	if err != nil {
		c.fail(fmt.Errorf("%s: %w", l.Place(), err))
		return u, false, false
	}
	plain, err := c.p.Job.TypeOf(l)
	if err != nil {
		c.fail(fmt.Errorf("%s: %w", l.Place(), err))
	}
	return both.Unit, both.Difference && !plain.Difference, plain.Difference
}

// beside compiles a value that an input is compared with: a quantity in the unit
// of an earlier stage is carried forward through the chain.
func (c *compiler) beside(input, e sheet.Expr, u unit.Unit, difference bool) int32 {
	in, place, ok := c.p.Job.AtStage(input, e)
	if !ok {
		return c.value(e, u, difference)
	}
	chain := c.p.Inputs[c.p.Index(InputKind, in.Name)].Chain
	q := e.(*sheet.Literal).Quantity
	return c.addValue(valueNode{op: valueConst, k: chain.Carry(q.In(chain.Units[place]), place, len(chain.Units)-1)})
}

func (c *compiler) between(x *sheet.Between) int32 {
	u, left, right := c.sides(x.X, x.Low)
	n := condNode{
		op:         condBetween,
		a:          c.value(x.X, u, left),
		b:          c.beside(x.X, x.Low, u, right),
		n:          c.beside(x.X, x.High, u, right),
		deadband:   -1,
		hysteresis: -1,
	}
	if x.Outside {
		n.op = condOutside
	}
	if x.Hysteresis != nil {
		n.hysteresis = c.value(x.Hysteresis, u, true)
	}
	return c.addFrom(n, x, u)
}

func (c *compiler) near(x *sheet.Near) int32 {
	u, left, right := c.sides(x.L, x.R)
	return c.addFrom(
		condNode{op: condNear, a: c.value(x.L, u, left), b: c.value(x.R, u, right), n: c.value(x.Within, u, true), deadband: -1, hysteresis: -1},
		x,
		u,
	)
}

// crosses compiles a crossing; stay is how long it must last, or nil.
func (c *compiler) crosses(x *sheet.Cross, stay *sheet.Duration) int32 {
	u, left, right := c.sides(x.X, x.V)
	n := condNode{op: condCrosses, a: c.value(x.X, u, left), b: c.beside(x.X, x.V, u, right), n: -1}
	if stay != nil {
		n.n = c.duration(stay)
	}
	return c.addFrom(n, x, u)
}

var second = unit.MustLookup("s")

func (c *compiler) slope(x *sheet.Slope) int32 {
	t, err := c.p.Job.TypeOf(x.X)
	if err != nil {
		c.fail(fmt.Errorf("%s: %w", x.Place(), err))
		return 0
	}
	n := condNode{op: condRising, a: c.value(x.X, t.Unit, t.Difference), n: int32(len(c.p.slopes))}
	if x.Falling {
		n.op = condFalling
	}
	q := x.Rate.Quantity
	c.p.slopes = append(
		c.p.slopes,
		slope{rate: q.Unit.ConvertDifference(q.Value, t.Unit), per: x.Rate.Per.Convert(1, second) * 1e9, over: c.duration(x.Over)},
	)
	return c.addFrom(n, x, t.Unit)
}

func (c *compiler) all(xs []sheet.Condition) []int32 {
	terms := make([]int32, len(xs))
	for i, x := range xs {
		terms[i] = c.cond(x)
	}
	return terms
}

// compare compiles a comparison in the unit of its first side that has an
// input, which is put on the left: `6 mg/L > oxygen` runs, and is explained, as
// `oxygen < 6 mg/L`.
func (c *compiler) compare(x *sheet.Compare) int32 {
	y := *x
	if job := c.p.Job; !job.HasInput(y.L) && job.HasInput(y.R) {
		y.L, y.R, y.Op = y.R, y.L, y.Op.Mirror()
	}
	u, leftDifference, rightDifference := c.sides(y.L, y.R)
	node := condNode{
		op:         map[sheet.Op]condOp{sheet.Below: condBelow, sheet.AtMost: condAtMost, sheet.Above: condAbove, sheet.AtLeast: condAtLeast}[y.Op],
		a:          c.value(y.L, u, leftDifference),
		b:          c.beside(y.L, y.R, u, rightDifference),
		deadband:   -1,
		hysteresis: -1,
	}
	if y.Deadband != nil {
		node.deadband = c.value(y.Deadband, u, true)
	}
	if y.Hysteresis != nil {
		node.hysteresis = c.value(y.Hysteresis, u, true)
	}
	i := c.addCond(node)
	c.p.sources[i] = condSource{compare: &y, unit: u}
	return i
}

func (c *compiler) addValue(n valueNode) int32 {
	if i, ok := c.shared[n]; ok {
		return i
	}
	c.p.values = append(c.p.values, n)
	i := int32(len(c.p.values) - 1)
	c.shared[n] = i
	return i
}

// value compiles a value into a unit. Every name and quantity is converted by
// itself, each as the temperature or the difference that it is: a name is what
// it was declared, a literal a difference where one belongs, as in sheet.Type.
func (c *compiler) value(e sheet.Expr, u unit.Unit, difference bool) int32 {
	visits.Add()
	switch e := e.(type) {
	case *sheet.Paren:
		return c.value(e.X, u, difference)
	case *sheet.Negate:
		return c.addValue(valueNode{op: valueNegate, a: c.value(e.X, u, difference)})
	case *sheet.Literal:
		return c.addValue(valueNode{op: valueConst, k: convert(conversion{e.Unit, u, difference}, e.Value)})
	case *sheet.Binary:
		if e.Op == '*' || e.Op == '/' {
			return c.product(e, u, difference)
		}
		node := valueNode{op: valueAdd, a: c.value(e.L, u, difference), b: c.value(e.R, u, true)}
		if e.Op == '-' {
			node.op = valueSub
		}
		return c.addValue(node)
	case *sheet.Func:
		args := make([]int32, len(e.Args))
		for i, a := range e.Args {
			args[i] = c.value(a, u, difference)
		}
		n := valueNode{op: functions[e.Name], a: int32(len(c.p.args)), b: int32(len(args))}
		c.p.args = append(c.p.args, args...)
		c.p.widest = max(c.p.widest, len(args))
		return c.addValue(n)
	case *sheet.Name:
		return c.name(e, u)
	}
	c.fail(fmt.Errorf("%s: unknown value %T", e.Place(), e))
	return 0
}

var functions = map[string]valueOp{"min": valueMin, "max": valueMax, "average": valueAverage, "median": valueMedian, "abs": valueAbs}

// product compiles the side that has the unit into u, and a factor or divisor
// as the bare number that it is; two of one dimension divide in the unit of the
// left one.
func (c *compiler) product(e *sheet.Binary, u unit.Unit, difference bool) int32 {
	left, errL := c.types.DifferenceType(e.L)
	right, errR := c.types.DifferenceType(e.R)
	if err := errors.Join(errL, errR); err != nil {
		c.fail(fmt.Errorf("%s: %w", e.Place(), err))
		return 0
	}
	node := valueNode{op: valueMul}
	if e.Op == '/' {
		node.op = valueDiv
	}
	bare := unit.Unit{}
	switch {
	case right.Unit == bare:
		node.a, node.b = c.value(e.L, u, true), c.value(e.R, bare, false)
	case node.op == valueMul:
		node.a, node.b = c.value(e.L, bare, false), c.value(e.R, u, true)
	default:
		node.a, node.b = c.value(e.L, left.Unit, true), c.value(e.R, left.Unit, true)
	}
	return c.addValue(node)
}

func (c *compiler) name(n *sheet.Name, u unit.Unit) int32 {
	if i := c.p.Index(SettingKind, n.Name); i >= 0 {
		s := c.p.Job.Setpoints[i]
		t := s.Type()
		return c.converted(c.addValue(valueNode{op: valueSetting, a: int32(i)}), conversion{t.Unit, u, t.Difference})
	}
	if i := c.p.Index(DerivedKind, n.Name); i >= 0 {
		d := c.p.Derived[i]
		t, err := c.p.Job.TypeOf(n)
		if err != nil {
			c.fail(fmt.Errorf("%s: %w", n.At, err))
		}
		return c.converted(d.value, conversion{d.Unit, u, t.Difference})
	}
	if o := c.analogOutput(n.Name); o >= 0 {
		return c.converted(c.addValue(valueNode{op: valueOutput, a: int32(o)}), conversion{from: c.p.Job.Outputs[o].Unit(), to: u})
	}
	i := c.p.Index(InputKind, n.Name)
	if i < 0 || c.p.Inputs[i].Chain == nil {
		c.fail(fmt.Errorf("%s: %s has no value", n.At, n.Name))
		return 0
	}
	c.p.Inputs[i].used = true
	return c.converted(c.addValue(valueNode{op: valueInput, a: int32(i)}), conversion{from: c.p.Inputs[i].Chain.Engineering(), to: u})
}

// analogOutput finds an analog output by name; -1 if there is none.
func (c *compiler) analogOutput(name string) int {
	if o := c.p.Index(OutputKind, name); o >= 0 && c.p.Job.Outputs[o].Range != nil {
		return o
	}
	return -1
}

func (c *compiler) converted(v int32, by conversion) int32 {
	if by.from == by.to {
		return v
	}
	i, known := c.conversions[by]
	if !known {
		i = int32(len(c.p.conversions))
		c.p.conversions = append(c.p.conversions, by)
		c.conversions[by] = i
	}
	return c.addValue(valueNode{op: valueConvert, a: v, b: i})
}

func convert(c conversion, v float64) float64 {
	if c.difference {
		return c.from.ConvertDifference(v, c.to)
	}
	return c.from.Convert(v, c.to)
}
