package bench

import (
	"errors"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"rectura/core/logic"
	"rectura/core/recording"
	"rectura/core/sheet"
	"rectura/core/unit"
)

// A Window is a stretch of a recording and how a signal was in it: the range in
// which it was but for its rarest hundredth, and its noise, the standard
// deviation that a normal distribution with its median deviation from the
// running median would have.
type Window struct {
	From, To  int64
	Low, High float64
	Noise     float64
	Samples   int
}

// A Lesson is what a signal's normal and trouble windows teach: whether they
// can be told apart, and a trip point, hysteresis and delay that do.
type Lesson struct {
	Input           string
	Unit            unit.Unit
	Normal, Trouble Window
	Separable       bool
	Falling         bool // the signal falls into trouble
	Trip, Reset     float64
	OnDelay         int64   // nanoseconds
	Margin          float64 // from the trip point to the nearer window, in noise widths
	Makes, Breaks   int     // how often the switch turned on and off that was looked at instead of windows
	Advice          string  // where they cannot be told apart: what would help; else why the hysteresis is small
}

// Hysteresis is how far the reset point lies from the trip point.
func (l *Lesson) Hysteresis() float64 { return math.Abs(l.Reset - l.Trip) }

// leastGap is how far apart two windows must lie to be told apart, in noise
// widths: three for each. A hysteresis of as much keeps noise from switching.
const leastGap = 6

// leastFollowed is how much of the time a switch must stand as the points that were found for
// it say, while it is on and while it is off, to have to do with a signal.
const leastFollowed = 0.8

// Teach looks at an input, as the rules see it, in a window in which all was
// well and one in which it was not.
func Teach(p *logic.Program, r *recording.Recording, input string, normal, trouble [2]int64, stop Stop) (*Lesson, error) {
	l, trace, err := newLesson(p, r, input, stop)
	if err != nil {
		return nil, err
	}
	for _, w := range []struct {
		name string
		ends [2]int64
		into *Window
	}{{"normal", normal, &l.Normal}, {"trouble", trouble, &l.Trouble}} {
		values := good(trace, w.ends)
		if len(values) < leastSamples {
			return nil, fmt.Errorf(
				"the %s window has %d good readings of %s; at least %d are needed",
				w.name,
				len(values),
				input,
				leastSamples,
			)
		}
		*w.into = look(values, w.ends)
	}
	chain := p.Inputs[p.Index(logic.InputKind, input)].Chain
	l.judge(chain.Resolution())
	if l.Separable {
		l.OnDelay = niceDelay(max(2*longestSpell(trace, normal, l.Trip, l.Falling), 10*spacing(trace)))
		return l, nil
	}
	l.Advice = l.advise(trace, normal, trouble)
	return l, nil
}

// leastSamples is the smallest number of readings from which a window is judged.
const leastSamples = 20

// TeachLike looks at an input at the moments at which a switch that is recorded
// beside it made and broke, and finds the values at which it does.
func TeachLike(p *logic.Program, r *recording.Recording, input, column string, stop Stop) (*Lesson, error) {
	l, trace, err := newLesson(p, r, input, stop)
	if err != nil {
		return nil, err
	}
	c := r.Column(column)
	if c == nil {
		return nil, fmt.Errorf("the recording has no column %s", column)
	}
	if t, v, found := c.NotDiscrete(); found {
		return nil, fmt.Errorf(
			"column %s, at %s: %s is neither 0 nor 1; a switch has two states",
			column,
			r.Clock.Format(t),
			unit.Short(v),
		)
	}
	var makes, breaks, on, off []float64
	last := math.NaN()
	c.Each(func(t int64, v float64) bool {
		now, read := trace.Held(t)
		before, readBefore := trace.Held(t - 1)
		if !read || math.IsNaN(now) || math.IsNaN(v) {
			return true
		}
		switch {
		case v == 1:
			on = append(on, now)
		default:
			off = append(off, now)
		}
		if v != last && !math.IsNaN(last) && readBefore && !math.IsNaN(before) {
			// It turned somewhere between the last two readings.
			if v == 1 {
				makes = append(makes, (before+now)/2)
			} else {
				breaks = append(breaks, (before+now)/2)
			}
		}
		last = v
		return true
	})
	if len(makes) == 0 || len(breaks) == 0 {
		return nil, fmt.Errorf(
			"%s turned on %d times and off %d times in the recording; to find both points it must do each at least once",
			column,
			len(makes),
			len(breaks),
		)
	}
	whole := [2]int64{r.Start, r.End}
	l.Normal, l.Trouble = look(off, whole), look(on, whole)
	l.Makes, l.Breaks = len(makes), len(breaks)
	l.Trip, l.Reset = median(makes), median(breaks)
	l.Falling = l.Trip < l.Reset || l.Trip == l.Reset && median(on) < median(off)
	if l.Separable = l.followed(c, trace) >= leastFollowed; !l.Separable {
		slices.Sort(makes)
		slices.Sort(breaks)
		between := func(v []float64) string {
			if len(v) == 1 {
				return fmt.Sprintf("at %s %s", unit.Short(v[0]), l.Unit.Name())
			}
			return fmt.Sprintf("at %s to %s %s", unit.Short(v[0]), unit.Short(v[len(v)-1]), l.Unit.Name())
		}
		l.Advice = fmt.Sprintf(
			"%s turned on %s, with %s %s, and off %s, %s; no trip and reset point of %s would turn it on and off then",
			column, times(len(makes)), input, between(makes), times(len(breaks)), between(breaks), input,
		)
	}
	return l, nil
}

func times(n int) string {
	if n == 1 {
		return "once"
	}
	return fmt.Sprintf("%d times", n)
}

// followed is how much of the time a switch stood as the lesson's points say: the mean of
// the share of its readings while it was on and of those while it was off.
func (l *Lesson) followed(c, trace *recording.Column) float64 {
	var same, all [2]int // by the switch's state
	says := -1           // what the points say; nothing yet
	// A switch acts late, so that its points lie near the ends of where the signal goes.
	near := min(3*max(l.Normal.Noise, l.Trouble.Noise), l.Hysteresis()/4)
	c.Each(func(t int64, v float64) bool {
		x, read := trace.Held(t)
		if !read || math.IsNaN(x) || math.IsNaN(v) {
			return true
		}
		state := int(v)
		beyond, back := x > l.Trip-near, x < l.Reset+near
		if l.Falling {
			beyond, back = x < l.Trip+near, x > l.Reset-near
		}
		switch {
		case beyond:
			says = 1
		case back:
			says = 0
		case says < 0:
			says = state
		}
		all[state]++
		if says == state {
			same[state]++
		}
		return true
	})
	return (float64(same[0])/float64(all[0]) + float64(same[1])/float64(all[1])) / 2
}

func newLesson(p *logic.Program, r *recording.Recording, input string, stop Stop) (*Lesson, *recording.Column, error) {
	i := p.Index(logic.InputKind, input)
	switch {
	case i < 0:
		return nil, nil, fmt.Errorf("no input is named %s%s", input, p.Job.DidYouMean(input, "input"))
	case p.Inputs[i].Chain == nil:
		return nil, nil, fmt.Errorf("%s is a discrete input; only an analog one has a trip point", input)
	}
	trace, err := Trace(p, r, i, stop)
	if err != nil {
		return nil, nil, err
	}
	if trace == nil {
		return nil, nil, fmt.Errorf("the recording has no column %s", input)
	}
	return &Lesson{Input: input, Unit: p.Inputs[i].Chain.Engineering()}, trace, nil
}

// good are the good values of a column in a window.
func good(c *recording.Column, w [2]int64) []float64 {
	var values []float64
	c.Each(func(t int64, v float64) bool {
		if t >= w[0] && t <= w[1] && !math.IsNaN(v) {
			values = append(values, v)
		}
		return t <= w[1]
	})
	return values
}

func median(values []float64) float64 { return quantile(slices.Sorted(slices.Values(values)), 0.5) }

func quantile(sorted []float64, q float64) float64 {
	return sorted[int(math.Round(q*float64(len(sorted)-1)))]
}

// look describes the values of a window.
func look(values []float64, ends [2]int64) Window {
	w := Window{From: ends[0], To: ends[1], Samples: len(values)}
	if len(values) == 0 {
		return w
	}
	sorted := slices.Sorted(slices.Values(values))
	w.Low, w.High = quantile(sorted, 0.005), quantile(sorted, 0.995)
	// Noise is what is left beside the running median, so that a drift is none.
	const around, most = 15, 20_000
	if extra := len(values) - most; extra > 0 {
		values = values[extra/2 : extra/2+most]
	}
	var rest []float64
	for i := range values {
		near := values[max(0, i-around):min(len(values), i+around+1)]
		rest = append(rest, math.Abs(values[i]-median(near)))
	}
	const normalDeviation = 1.4826 // of a normal distribution, to its median absolute deviation
	w.Noise = normalDeviation * median(rest)
	return w
}

// judge finds the trip and reset points between the windows, if there is room.
func (l *Lesson) judge(resolution float64) {
	l.Falling = l.Trouble.Low+l.Trouble.High < l.Normal.Low+l.Normal.High
	normal, trouble := l.edges()
	gap := math.Abs(normal - trouble)
	if l.Falling != (trouble < normal) {
		gap = 0
	}
	noise := max(l.Normal.Noise, l.Trouble.Noise, resolution/math.Sqrt(12), gap*1e-6)
	if l.Separable = gap > leastGap*noise; !l.Separable {
		return
	}
	l.Trip = niceWithin((normal+trouble)/2, gap)
	toNormal := math.Abs(normal - l.Trip)
	wanted := max(leastGap*noise, 2*resolution)
	h := niceUp(wanted)
	switch {
	case h <= toNormal:
	case wanted <= toNormal:
		h = tidy(toNormal, toNormal/100)
	default:
		h = niceDown(toNormal)
		l.Advice = fmt.Sprintf(
			"the hysteresis is %s noise widths and not %d, since the windows lie only %s noise widths apart, and the reset point must not lie in the normal one; a filter, `smooth average 5 samples` say, makes room for more",
			unit.Significant(h/noise, 2),
			leastGap,
			unit.Significant(gap/noise, 2),
		)
	}
	if l.Reset = l.Trip - h; l.Falling {
		l.Reset = l.Trip + h
	}
	l.Reset = tidy(l.Reset, h/100)
	l.Margin = min(toNormal, math.Abs(l.Trip-trouble)) / noise
}

// edges are the ends of the windows that face each other.
func (l *Lesson) edges() (normal, trouble float64) {
	if l.Falling {
		return l.Normal.Low, l.Trouble.High
	}
	return l.Normal.High, l.Trouble.Low
}

// longestSpell is how long the signal stayed beyond a point at the most.
func longestSpell(c *recording.Column, w [2]int64, trip float64, falling bool) int64 {
	var longest, since int64
	inside := false
	c.Each(func(t int64, v float64) bool {
		if t < w[0] || t > w[1] {
			return t <= w[1]
		}
		beyond := v > trip
		if falling {
			beyond = v < trip
		}
		if inside {
			longest = max(longest, t-since)
		}
		if beyond && !inside {
			since = t
		}
		inside = beyond
		return true
	})
	return longest
}

// advise looks for a filter, or a delay, with which the windows could be told
// apart.
func (l *Lesson) advise(trace *recording.Column, normal, trouble [2]int64) string {
	a, b := good(trace, normal), good(trace, trouble)
	for _, n := range []int{5, 15, 31, 61, 121, 301} {
		if n*3 > len(a) || n*3 > len(b) {
			break
		}
		try := &Lesson{Normal: look(averaged(a, n), normal), Trouble: look(averaged(b, n), trouble)}
		if try.judge(0); try.Separable {
			return fmt.Sprintf("`smooth average %d samples` would part them: normal %s..%s, trouble %s..%s",
				n, unit.Short(try.Normal.Low), unit.Short(try.Normal.High), unit.Short(try.Trouble.Low), unit.Short(try.Trouble.High))
		}
	}
	middle := (median(a) + median(b)) / 2
	shortest := longestSpell(trace, normal, middle, l.Falling)
	if longest := longestSpell(trace, trouble, middle, l.Falling); longest > 4*max(shortest, spacing(trace)) {
		delay := niceDelay(2 * max(shortest, spacing(trace)))
		if delay < longest {
			return fmt.Sprintf(
				"an on-delay of %s at %s would part them: in the normal window the signal stays beyond it for %s at the most, in the trouble window for %s",
				unit.FormatDuration(delay),
				unit.Short(middle),
				unit.FormatDuration(shortest),
				unit.FormatDuration(longest),
			)
		}
	}
	return "no filter and no delay would part them; look for another signal, or for windows that are all normal and all trouble"
}

// averaged is the running mean of the last n values, from the n-th on.
func averaged(values []float64, n int) []float64 {
	var all []float64
	sum := 0.0
	for i, v := range values {
		sum += v
		if i >= n {
			sum -= values[i-n]
		}
		if i >= n-1 {
			all = append(all, sum/float64(n))
		}
	}
	return all
}

// niceWithin rounds a value as far as a twentieth of a gap allows.
func niceWithin(v, gap float64) float64 {
	step := niceDown(gap / 10)
	return tidy(math.Round(v/step)*step, step)
}

// niceDown and niceUp are the nearest 1, 2 or 5 of a power of ten below and
// above.
func niceDown(v float64) float64 {
	if !(v > 0) {
		return 0
	}
	power := math.Pow(10, math.Floor(math.Log10(v)))
	for _, m := range []float64{5, 2, 1} {
		if m*power <= v*(1+1e-9) {
			return tidy(m*power, m*power)
		}
	}
	return power
}

func niceUp(v float64) float64 {
	power := math.Pow(10, math.Floor(math.Log10(v)))
	for _, m := range []float64{1, 2, 3, 5, 10} {
		if m*power >= v*(1-1e-9) {
			return tidy(m*power, power)
		}
	}
	return 10 * power
}

// tidy takes away what rounding left behind the last digit of a step.
func tidy(v, step float64) float64 {
	decimals := max(0, 1-int(math.Floor(math.Log10(step))))
	t, err := parseFloat(strconv.FormatFloat(v, 'f', min(decimals, 17), 64))
	if err != nil {
		return v
	}
	return t
}

func parseFloat(s string) (float64, error) { return strconv.ParseFloat(s, 64) }

// niceDelay is the next of the delays that people set.
func niceDelay(ns int64) int64 {
	const second = int64(1e9)
	for _, s := range []int64{1, 2, 5, 10, 15, 20, 30, 45, 60, 90, 120, 180, 300, 600, 900, 1800, 3600} {
		if s*second >= ns {
			return s * second
		}
	}
	return (ns + 3600*second - 1) / (3600 * second) * 3600 * second
}

// Declarations are the setpoint and the rule that a lesson proposes, as text.
func (l *Lesson) Declarations(rule, output string) (string, error) {
	if !l.Separable {
		return "", errors.New("the windows cannot be told apart, so there is no rule to write")
	}
	number := func(v float64) string { return unit.Quantity{Value: v, Unit: l.Unit}.String() }
	normal, trouble := l.edges()
	low, high := min(normal, trouble, l.Trip, l.Reset), max(normal, trouble, l.Trip, l.Reset)
	step := niceDown((high - low) / 10)
	if step == 0 {
		step = 1
	}
	op := ">"
	if l.Falling {
		op = "<"
	}
	var b strings.Builder
	point := rule + "_point"
	fmt.Fprintf(&b, "setpoint %s \"Trip point of %s\" %s\n", point, rule, number(l.Trip))
	fmt.Fprintf(
		&b,
		"  allow %s..%s\n\n",
		unit.Quantity{Value: tidy(math.Floor(low/step)*step, step)}.Number(),
		number(tidy(math.Ceil(high/step)*step, step)),
	)
	fmt.Fprintf(&b, "rule %s\n  on when %s %s %s", rule, l.Input, op, point)
	if h := l.Hysteresis(); h > 0 {
		fmt.Fprintf(&b, " hysteresis %s", number(tidy(h, h/100)))
	}
	if l.OnDelay > 0 {
		fmt.Fprintf(&b, " for %s", unit.FormatDuration(l.OnDelay))
	}
	b.WriteByte('\n')
	if output != "" {
		fmt.Fprintf(&b, "  call %s\n", output)
	}
	return b.String(), nil
}

// WriteRule puts a lesson's declarations at the end of the sheet that holds the
// job's last rule, and gives that sheet's name and new text.
func (l *Lesson) WriteRule(sources []sheet.Source, rule, output string) (name, text string, err error) {
	declarations, err := l.Declarations(rule, output)
	if err != nil {
		return "", "", err
	}
	p, err := compileSources(sources)
	if err != nil {
		return "", "", err
	}
	for _, n := range []string{rule, rule + "_point"} {
		if d := p.Job.Lookup(n); d != nil {
			return "", "", fmt.Errorf("%s is already the name of the %s at %s; choose another", n, d.Keyword(), d.Base().NameAt)
		}
	}
	name = p.Job.SheetForRules(p.Job.Input(l.Input))
	text = sheet.Appended(fileText(p.Job, name), declarations)
	file, found := sheet.ParseFile(name, []byte(text))
	if sheet.HasErrors(found) {
		return "", "", fmt.Errorf("the rule %s cannot be written: %s", rule, found[0])
	}
	text = file.String()
	return name, text, checkChanged(sources, name, text)
}
