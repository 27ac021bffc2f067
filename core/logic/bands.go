package logic

import "rectura/core/sheet"

// Bands of a Program: limits of one signal, of which the first that it has
// passed gives the band in force.
type Bands struct {
	Name       string
	Bands      []Band
	node       int32 // the condition that decides
	cumulative bool
	delay      int32   // a duration, or -1
	tests      []int32 // conditions that ask which band is in force
}

// A Band of Bands.
type Band struct {
	Title string
	limit int32 // a comparison; -1 for the band without a limit
	node  int32 // the condition that is true while it calls
}

func (c *compiler) bands(d *sheet.Bands) {
	index := len(c.p.Bands)
	c.begins(BandsKind, index)
	print := c.printValue(d.Of)
	if d.Hysteresis != nil {
		print = print*31 + c.printValue(d.Hysteresis.Value)
	}
	for _, band := range d.Bands {
		if print = print*31 + printText(string(band.Op), band.Title()); band.Op != "" {
			print = print*31 + c.printValue(band.Limit)
		}
	}
	b := Bands{Name: d.Name, cumulative: d.Cumulative != nil, delay: c.clause(d.For)}
	c.part("limits", print, func() {
		for _, band := range d.Bands {
			limit := int32(-1)
			if band.Op != "" {
				x := &sheet.Compare{Op: band.Op, L: d.Of, R: band.Limit}
				if d.Hysteresis != nil {
					x.Hysteresis = d.Hysteresis.Value
				}
				limit = c.compare(x)
			}
			b.Bands = append(b.Bands, Band{Title: band.Title(), limit: limit})
		}
		if elseless(d) {
			b.Bands = append(b.Bands, Band{Title: belowAll, limit: -1})
		}
		b.node = c.addCond(condNode{op: condBands, a: int32(index)})
		for i := range b.Bands {
			b.Bands[i].node = c.addCond(condNode{op: condBand, a: int32(index), b: int32(i)})
		}
	})
	for i := range d.Bands {
		c.callAll(
			d.Bands[i].Calls,
			Caller{Ref: Ref{BandsKind, int32(index)}, Name: d.Name + " (" + b.Bands[i].Title + ")", node: b.Bands[i].node},
		)
	}
	c.p.Bands = append(c.p.Bands, b)
}

// belowAll is the band of a ladder without `else` in which no limit is passed.
const belowAll = "else"

// elseless tells whether bands, which must be a ladder, have no `else`.
func elseless(d *sheet.Bands) bool { return d.Bands[len(d.Bands)-1].Op != "" }

// bandMemory is the memory of Bands.
type bandMemory struct {
	inForce   int // -1 before the first good reading
	undecided bool
	waiting   int   // the band that is to be in force once it has lasted; -1 for none
	since     int64 // since when it has been
	turned    int64 // when the band in force became that
	number    int64 // of its last transition, or -1
}

// stepBands decides which band is in force.
func (s *Stepper) stepBands(i int32, index int32) truth {
	b, m := &s.p.Bands[index], &s.bands[index]
	shownBefore := s.bandShown(index)
	due := int64(never)
	found, undecided := len(b.Bands)-1, false
	for k := range b.Bands {
		if limit := b.Bands[k].limit; limit >= 0 {
			if s.truths[limit] == isUnknown {
				undecided = true
				break
			}
			if s.truths[limit] == isTrue {
				found = k
				break
			}
		}
	}
	switch {
	case undecided:
		m.waiting = -1
	case found == m.inForce:
		m.waiting = -1
	case b.delay < 0 || m.inForce < 0:
		m.inForce, m.waiting = found, -1
	default:
		if m.waiting != found {
			m.waiting, m.since = found, s.now
		}
		if end := after(m.since, s.duration(int64(b.delay))); s.now >= end || s.patient {
			m.inForce, m.waiting, m.turned = found, -1, s.now
		} else {
			due = end
		}
	}
	m.undecided = undecided
	s.timers.Set(i, due)
	if now := s.bandShown(index); now != shownBefore {
		for k := range b.Bands {
			s.newConds.add(b.Bands[k].node)
		}
		s.newConds.addAll(b.tests)
		s.report(Ref{BandsKind, index}, shownBefore, now, s.bandReason(index))
	}
	return isTrue
}

func (s *Stepper) bandShown(index int32) Stand {
	if m := &s.bands[index]; !m.undecided && m.inForce >= 0 {
		return Stand{State: On, Band: int32(m.inForce)}
	}
	return Stand{State: Undecided}
}

// bandHolds tells whether a band calls: it is in force or, on a ladder, has been
// passed on the way to the one that is. A test asks only for the one in force.
func (s *Stepper) bandHolds(index, band int32, test bool) truth {
	m := &s.bands[index]
	switch {
	case m.undecided || m.inForce < 0:
		return isUnknown
	case s.p.Bands[index].cumulative && !test:
		return truthOf(m.inForce <= int(band))
	}
	return truthOf(m.inForce == int(band))
}

// bandReason explains the limit of the band in force and that of the one
// farther out, or the bad signal.
func (s *Stepper) bandReason(index int32) Reason {
	b, m := &s.p.Bands[index], &s.bands[index]
	from := len(s.terms)
	s.reasonFrom = from
	if m.undecided || m.inForce < 0 {
		s.explain(b.Bands[0].limit, lasting{})
		return Reason{Cause: ByTerms, Terms: s.terms[from:]}
	}
	if limit := b.Bands[m.inForce].limit; limit >= 0 {
		s.explain(limit, lasting{})
	}
	if m.inForce > 0 {
		s.explain(b.Bands[m.inForce-1].limit, lasting{})
	}
	r := Reason{Cause: ByTerms, Terms: s.terms[from:]}
	if b.delay >= 0 && m.turned == s.now {
		for k := range r.Terms {
			r.Terms[k].For, r.Terms[k].Since = s.duration(int64(b.delay)), m.since
		}
	}
	return r
}
