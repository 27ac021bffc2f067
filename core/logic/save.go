package logic

import (
	"rectura/core/memo"
)

// A Row is the memory of one declaration, or of the run as a whole, which has
// neither kind nor name. Data is in the form of package memo.
type Row struct {
	Kind, Name string
	Data       []byte
}

// form is the version of the form of rows: that of the fields below. A later version
// reads what an earlier one has written, or says what it does not read.
const form = 1

// usualRow is more than the size of most rows, in bytes.
const usualRow = 128

// Save gives the memory as rows: all, or those of the declarations that something
// has happened to since the last Save, in any case with that of the run. It is
// called between two instants, when nothing has been handed over that the next
// instant is to take.
func (s *Stepper) Save(touched bool) []Row {
	n := s.p.declarations()
	if !touched {
		s.touched.fill(int(n))
	}
	count := 1 + s.touched.count()
	rows, ends := make([]Row, 1, count), make([]int, 1, count)
	data := memo.Write(make([]byte, 0, count*usualRow), s.runFields)
	ends[0] = len(data)
	var r Ref
	list := func(f *memo.Fields) { s.fields(f, r) }
	for word := range s.touched {
		for i, some := s.touched.take(word); some; i, some = s.touched.take(word) {
			if r = s.p.declaration(i); r.Kind == DerivedKind { // which remembers nothing
				continue
			}
			data = memo.Write(data, list)
			rows, ends = append(rows, Row{Kind: r.Kind.String(), Name: s.p.Name(r)}), append(ends, len(data))
		}
	}
	from := 0
	for i, end := range ends {
		rows[i].Data, from = data[from:end:end], end
	}
	return rows
}

// Shift moves every time that is remembered by so many nanoseconds, as when the
// clock is set: no delay, minimum time or shelving becomes longer or shorter. The
// time of day is looked at anew at the next instant.
func (s *Stepper) Shift(by int64) {
	memo.Shift(by, s.runFields)
	for i := range s.p.declarations() {
		if r := s.p.declaration(i); r.Kind != DerivedKind {
			memo.Shift(by, func(f *memo.Fields) { s.fields(f, r) })
		}
	}
	for i := range s.p.conds {
		if s.p.conds[i].op == condDaytime {
			s.timers.Set(int32(i), s.now)
		}
	}
	s.markAll()
}

// runFields are those of the run as a whole.
func (s *Stepper) runFields(f *memo.Fields) {
	version, print := form, s.p.print()
	memo.Int(f, 1, &version)
	if f.Print(2, &print); f.Reading() && print != s.p.print() {
		s.moved = true
	}
	f.Bool(3, &s.began)
	f.Time(4, &s.now)
	memo.Int(f, 5, &s.next)
	f.Bool(6, &s.circle)
	f.Time(7, &s.circleAt)
	memo.Int(f, 8, &s.restless)
	s.due(f, 9, int32(len(s.p.conds)))
	f.Bool(10, &s.listening)
	f.Usually(11, memo.Always, &s.started)
	if f.Reading() && version != form {
		f.Fail("this memory was written by a later version of the program")
	}
}

// due is the field of a timer.
func (s *Stepper) due(f *memo.Fields, number int, timer int32) {
	due := s.timers.At(timer)
	f.Usually(number, memo.Never, &due)
	s.timers.Set(timer, due)
}

// fields lists what is remembered of a declaration.
func (s *Stepper) fields(f *memo.Fields, r Ref) {
	i := r.Index
	switch r.Kind {
	case SettingKind:
		s.settingFields(f, i)
	case InputKind:
		s.inputFields(f, i)
	case BandsKind:
		s.bands[i].fields(f)
		if m := &s.bands[i]; !f.Reading() && m.inForce >= 0 {
			f.Text(7, &s.p.Bands[i].Bands[m.inForce].Title)
		}
	case RuleKind:
		s.rules[i].fields(f)
	case AlarmKind:
		f.Group(1, s.rules[s.p.Alarms[i].Rule].fields)
		f.Group(2, s.alarms[i].Fields)
	case FollowKind:
		f.Float(1, &s.follows[i])
	case LoopKind:
		s.loops[i].fields(f)
	case OutputKind:
		s.outputs[i].fields(f)
		s.due(f, 14, s.outputTimer(i))
		if unit := s.p.Outputs[i].Unit.Name(); !f.Reading() {
			f.Text(15, &unit)
		}
	}
	if !f.Reading() { // what is read is looked for by name
		s.clauseFields(f, s.p.number(r))
	}
}

func (s *Stepper) settingFields(f *memo.Fields, i int32) {
	q := s.p.Settings[i].Value
	name := q.Unit.Name()
	f.Float(1, &s.settings[i])
	if !f.Reading() {
		f.Text(2, &name)
		f.Float(3, &q.Value)
	}
}

func (s *Stepper) inputFields(f *memo.Fields, i int32) {
	m := &s.inputs[i]
	if !f.Reading() {
		f.Print(1, &s.p.workings[i])
	}
	if s.p.Inputs[i].Chain != nil {
		f.Group(2, m.signal.Fields)
	} else {
		f.Group(3, m.contact.Fields)
	}
	memo.One(f, 4, States, &m.quality)
	f.Bool(5, &m.read)
	f.Bool(6, &m.pinned)
	f.Float(7, &m.pin)
	f.Usually(8, memo.Never, &m.pinEnds)
	f.Usually(9, memo.Always, &m.settles)
	s.due(f, 10, s.inputTimer(i))
	f.Text(11, &m.says)
	f.Bool(12, &m.told)
	f.Bool(13, &m.on)
}

func (m *ruleMemory) fields(f *memo.Fields) {
	memo.One(f, 1, States, &m.shown)
	f.Bool(2, &m.decided)
	f.Time(3, &m.turned)
	f.Bool(4, &m.everOn)
	memo.One(f, 5, pulses, &m.pulse)
	f.Bool(6, &m.armed)
	memo.One(f, 7, holdKinds, &m.held)
	number(f, 8, &m.number)
	f.Usually(9, memo.Always, &m.settles)
}

// number is the field of that of a transition, or -1.
func number(f *memo.Fields, field int, n *int64) {
	x := *n + 1
	memo.Int(f, field, &x)
	*n = x - 1
}

func (m *bandMemory) fields(f *memo.Fields) {
	memo.Int(f, 1, &m.inForce)
	f.Bool(2, &m.undecided)
	memo.Int(f, 3, &m.waiting)
	f.Time(4, &m.since)
	f.Usually(5, memo.Always, &m.turned)
	number(f, 6, &m.number)
}

func (m *loopMemory) fields(f *memo.Fields) {
	f.Bool(1, &m.calls)
	f.Bool(3, &m.has)
	f.Bool(10, &m.beaten)
	f.Time(5, &m.at)
	f.Float(6, &m.x)
	f.Float(7, &m.share)
	f.Float(8, &m.sum)
	f.Float(9, &m.out)
}

func (m *outputMemory) fields(f *memo.Fields) {
	memo.One(f, 1, States, &m.state)
	f.Time(2, &m.turned)
	f.Bool(3, &m.everOn)
	memo.One(f, 4, holdKinds, &m.held)
	f.Float(5, &m.level)
	memo.One(f, 6, modes, &m.mode)
	f.Float(7, &m.hand)
	f.Text(8, &m.lock)
	f.Usually(9, memo.Never, &m.ends)
	f.Bool(10, &m.tripped)
	number(f, 11, &m.number)
	f.Usually(12, memo.Always, &m.settles)
	f.Bool(16, &m.known)
	f.Bool(19, &m.taken)
	memo.One(f, 21, States, &m.back.State)
	f.Float(22, &m.back.Level)
	f.Bool(23, &m.away)
	f.Bool(24, &m.unhand)
	memo.One(f, 28, stirs, &m.stirred)
	memo.One(f, 29, causes, &m.cause)
	by := m.by + 1
	memo.Int(f, 30, &by)
	m.by = by - 1
	apart := m.plant.State != m.state || m.plant.Level != m.level // an earlier form has one for both
	f.Bool(25, &apart)
	memo.One(f, 26, States, &m.plant.State)
	f.Float(27, &m.plant.Level)
	if f.Reading() && !apart {
		m.plant = Stand{State: m.state, Level: m.level}
	}
}

// A condRow is what is remembered of a condition, with what stands elsewhere.
type condRow struct {
	condMemory
	truth truth
	due   int64
	past  past
}

func (c *condRow) fields(f *memo.Fields) {
	memo.One(f, 1, truths, &c.truth)
	f.Time(2, &c.changed)
	f.Usually(3, memo.Always, &c.since)
	f.Float(4, &c.last)
	f.Bool(5, &c.tripped)
	f.Bool(6, &c.waiting)
	f.Bool(7, &c.lapsed)
	f.Usually(8, memo.Never, &c.due)
	n := len(c.past.entries)
	f.Many(9, &n, func(f *memo.Fields, i int) {
		if f.Reading() {
			c.past.entries = append(c.past.entries, pastValue{})
		}
		f.Time(1, &c.past.entries[i].at)
		f.Float(2, &c.past.entries[i].value)
	})
}

// A clauseRow is what is remembered of a clause.
type clauseRow struct {
	name  string
	print uint64
	conds []condRow
}

// clauseNumber is that of the field of clauses in every row.
const clauseNumber = 20

// clauseFields are the clauses of a declaration, to be written or shifted.
func (s *Stepper) clauseFields(f *memo.Fields, of int32) {
	for k := s.p.clausesOf.start[of]; k < s.p.clausesOf.start[of+1]; k++ {
		c := s.p.clauses[s.p.clausesOf.items[k]]
		f.Group(clauseNumber, func(f *memo.Fields) {
			f.Text(1, &c.name)
			f.Print(2, &c.print)
			for i := c.from; i < c.to; i++ {
				row := s.condRow(i)
				if f.Group(3, row.fields); f.Shifting() {
					s.setCondRow(i, &row)
				}
			}
		})
	}
}

func (s *Stepper) condRow(i int32) condRow {
	row := condRow{condMemory: s.conds[i], truth: s.truths[i], due: s.timers.At(i)}
	if slope := s.slopeOf(i); slope >= 0 {
		row.past = s.pasts[slope]
	}
	return row
}

func (s *Stepper) setCondRow(i int32, row *condRow) {
	s.conds[i], s.truths[i] = row.condMemory, row.truth
	s.timers.Set(i, row.due)
	if slope := s.slopeOf(i); slope >= 0 {
		s.pasts[slope] = row.past
	}
}

// slopeOf is the number of the slope that a condition is, or -1.
func (s *Stepper) slopeOf(i int32) int32 {
	if n := &s.p.conds[i]; n.op == condRising || n.op == condFalling {
		return n.n
	}
	return -1
}

// clauseRows reads the clauses of a row.
func clauseRows(f *memo.Fields) []clauseRow {
	var all []clauseRow
	n := 0
	f.Many(clauseNumber, &n, func(f *memo.Fields, i int) {
		var row clauseRow
		f.Text(1, &row.name)
		f.Print(2, &row.print)
		m := 0
		f.Many(3, &m, func(f *memo.Fields, i int) {
			var c condRow
			c.fields(f)
			row.conds = append(row.conds, c)
		})
		all = append(all, row)
	})
	return all
}
