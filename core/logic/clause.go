package logic

import (
	"hash/fnv"
	"strings"

	"rectura/core/sheet"
)

// A clause is a part of a declaration that remembers: the conditions that it was
// compiled to, and the fingerprint of what it says. Where both are as they were, its
// memory is that of the same clause.
type clause struct {
	of       int32 // the number of the declaration
	name     string
	print    uint64
	from, to int32 // its conditions
}

// number is the number of a declaration among all that remember.
func (p *Program) number(r Ref) int32 { return p.first[r.Kind] + r.Index }

// numberDeclarations gives each kind its first number.
func (p *Program) numberDeclarations(job *sheet.Job) {
	sizes := [...]int{
		InputKind:   len(job.Inputs) + len(job.Watched),
		DerivedKind: len(job.Derived),
		SettingKind: len(job.Setpoints),
		BandsKind:   len(job.Bands),
		RuleKind:    len(job.Rules),
		AlarmKind: len(
			job.Alarms,
		),
		FollowKind:  len(job.Follows),
		LoopKind:    len(job.Loops),
		MessageKind: len(job.Messages),
		OutputKind:  len(job.Outputs),
	}
	p.first = make([]int32, len(sizes)+1)
	for k, n := range sizes {
		p.first[k+1] = p.first[k] + int32(n)
	}
}

// declarations is how many there are that may remember.
func (p *Program) declarations() int32 { return p.first[len(p.first)-1] }

// declaration is the one of a number.
func (p *Program) declaration(number int32) Ref {
	k := 0
	for number >= p.first[k+1] {
		k++
	}
	return Ref{Kind(k), number - p.first[k]}
}

// The clauses of a rule that a rule which is on takes over though they have changed.
const (
	onWhen   = "on when"
	onDelay  = "on when … for"
	offAfter = "off after"
	letGo    = "let go"
)

// begins makes what is compiled from now on that of a declaration.
func (c *compiler) begins(kind Kind, index int) { c.of = c.p.number(Ref{kind, int32(index)}) }

// part compiles a clause of the declaration that has begun.
func (c *compiler) part(name string, print uint64, compile func()) {
	from := len(c.p.conds)
	compile()
	c.p.clauses = append(c.p.clauses, clause{c.of, name, print, int32(from), int32(len(c.p.conds))})
	for len(c.p.owners) < len(c.p.conds) {
		c.p.owners = append(c.p.owners, c.of)
	}
}

// condition compiles a clause that is a condition.
func (c *compiler) condition(name string, x sheet.Condition) (cond int32) {
	c.part(name, c.printOf(x), func() { cond = c.cond(x) })
	return cond
}

// print is the fingerprint of the whole program.
func (p *Program) print() uint64 {
	p.prints.Do(func() {
		for _, f := range p.Job.Files {
			p.whole = p.whole*31 + printText(f.String())
		}
	})
	return p.whole
}

// printText is the fingerprint of text.
func printText(parts ...string) uint64 {
	h := fnv.New64a()
	h.Write([]byte(strings.Join(parts, "\x00"))) // which cannot fail
	return h.Sum64()
}

// printOf is the fingerprint of a condition: of its text, of what the derived values
// in it are made of, and of the units of what it names. Setpoints count by name: what
// they are set to is no part of the condition.
func (c *compiler) printOf(x sheet.Condition) uint64 {
	print := printText(x.String())
	sheet.ConditionNames(x, func(n *sheet.Name) { print = print*31 + c.printName(n.Name) })
	return print
}

func (c *compiler) printValue(e sheet.Expr) uint64 {
	print := printText(e.String())
	sheet.Names(e, func(n *sheet.Name) { print = print*31 + c.printName(n.Name) })
	return print
}

func (c *compiler) printName(name string) uint64 {
	r, _ := c.p.Find(name)
	switch r.Kind {
	case DerivedKind:
		print, known := c.prints[name]
		if !known {
			print = c.printValue(c.p.Job.Derived[r.Index].Value)
			c.prints[name] = print
		}
		return print
	case InputKind:
		if in := &c.p.Inputs[r.Index]; in.Chain != nil {
			return printText(in.Chain.Engineering().Name())
		}
	case OutputKind:
		if o := c.p.Job.Outputs[r.Index]; o.Range != nil {
			return printText(o.Unit().Name())
		}
	}
	return 1
}
