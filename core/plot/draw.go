package plot

import (
	"fmt"
	"image/color"
	"io"
	"math"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"gonum.org/v1/plot/font"
	"gonum.org/v1/plot/font/liberation"
	"gonum.org/v1/plot/text"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"
	"gonum.org/v1/plot/vg/vgimg"
	"gonum.org/v1/plot/vg/vgsvg"

	"rectura/core/logic"
	"rectura/core/recording"
	"rectura/core/unit"
)

// Width and Height are the usual size of a chart, in pixels. A chart with many
// signals grows in height.
const (
	Width  = 1280
	Height = 800
)

// The sheet's measures, in pixels.
const (
	left        = 140
	right       = 196
	top         = 58
	foot        = 46
	laneHeight  = 19
	panelGap    = 9
	leastPanel  = 58
	labelHeight = 10
)

var (
	paper   = color.NRGBA{0xff, 0xfd, 0xf8, 0xff}
	ink     = color.NRGBA{0x23, 0x21, 0x1c, 0xff}
	ink2    = color.NRGBA{0x5d, 0x58, 0x4c, 0xff}
	grid    = color.NRGBA{0xdd, 0xd8, 0xcc, 0xff}
	alarmed = color.NRGBA{0xb3, 0x26, 0x1e, 0xff}
	accent  = color.NRGBA{0x4b, 0x3f, 0x8f, 0xff}
	shade   = color.NRGBA{0x4b, 0x3f, 0x8f, 0x16}
	bad     = color.NRGBA{0x7a, 0x4a, 0x78, 0xff}
	badBg   = color.NRGBA{0x7a, 0x4a, 0x78, 0x22}
	filled  = color.NRGBA{0x23, 0x21, 0x1c, 0x30}
	light   = color.NRGBA{0xb8, 0xb2, 0xa4, 0xff}
)

// SVG writes the chart as a scalable picture.
func (c *Chart) SVG(w io.Writer) error {
	canvas := vgsvg.New(Width, vg.Length(c.height()))
	c.draw(canvas)
	if _, err := canvas.WriteTo(w); err != nil {
		return fmt.Errorf("writing SVG: %w", err)
	}
	return nil
}

// PNG writes the chart as a picture of Width pixels.
func (c *Chart) PNG(w io.Writer) error {
	canvas := vgimg.NewWith(vgimg.UseWH(Width, vg.Length(c.height())), vgimg.UseDPI(72), vgimg.UseBackgroundColor(paper))
	c.draw(canvas)
	if _, err := (vgimg.PngCanvas{Canvas: canvas}).WriteTo(w); err != nil {
		return fmt.Errorf("writing PNG: %w", err)
	}
	return nil
}

func (c *Chart) height() int {
	return max(Height, top+foot+len(c.Lanes)*laneHeight+len(c.Panels)*(leastPanel+panelGap))
}

// A drawing is a canvas with its measures; y counts from the top.
type drawing struct {
	*Chart
	canvas draw.Canvas
	tall   float64
	fonts  text.Handler
}

func (c *Chart) draw(canvas vg.CanvasSizer) {
	d := &drawing{
		Chart:  c,
		canvas: draw.New(canvas),
		tall:   float64(c.height()),
		fonts:  text.Plain{Fonts: font.NewCache(liberation.Collection())},
	}
	d.rect(0, 0, Width, d.tall, paper)
	bottom := d.tall - foot
	lanesTop := bottom - float64(len(c.Lanes)*laneHeight)
	d.text(left, 22, 16, ink, true, 0, c.Title)
	d.text(left, 41, 11, ink2, false, 0, c.Subtitle)
	d.timeAxis(bottom)
	total := 0.0
	for i := range c.Panels {
		total += c.Panels[i].weight()
	}
	y := float64(top)
	for i := range c.Panels {
		tall := (lanesTop - top - panelGap) * c.Panels[i].weight() / total
		d.panel(&c.Panels[i], y, y+tall-panelGap)
		y += tall
	}
	for i := range c.Lanes {
		d.lane(&c.Lanes[i], lanesTop+float64(i*laneHeight))
	}
	d.legend()
}

// weight is a panel's share of the height: what has many points has many labels.
func (p *Panel) weight() float64 { return float64(max(5, len(p.Points)+1)) }

func (d *drawing) x(t int64) float64 {
	return left + (Width-left-right)*(float64(t)-float64(d.From))/math.Max(float64(d.To)-float64(d.From), 1)
}

func (d *drawing) point(x, y float64) vg.Point {
	return vg.Point{X: vg.Length(x), Y: vg.Length(d.tall - y)}
}

func (d *drawing) rect(x, y, w, h float64, c color.Color) {
	d.canvas.FillPolygon(c, []vg.Point{d.point(x, y), d.point(x+w, y), d.point(x+w, y+h), d.point(x, y+h)})
}

func (d *drawing) line(x0, y0, x1, y1, width float64, c color.Color, dashes ...vg.Length) {
	d.path([]vg.Point{d.point(x0, y0), d.point(x1, y1)}, width, c, dashes...)
}

func (d *drawing) path(points []vg.Point, width float64, c color.Color, dashes ...vg.Length) {
	d.canvas.StrokeLines(draw.LineStyle{Color: c, Width: vg.Length(width), Dashes: dashes}, points)
}

// mostStroked is how many points are stroked at once: the time that the rasterizer takes grows with their square
// where a signal goes up and down in every pixel.
const mostStroked = 64

// curve draws a path of very many points.
func (d *drawing) curve(points []vg.Point, width float64, c color.Color) {
	for len(points) > mostStroked {
		d.path(points[:mostStroked], width, c)
		points = points[mostStroked-1:]
	}
	d.path(points, width, c)
}

// drawable is a text without the characters that XML, and so SVG, cannot hold
// (XML 1.0, 2.2), and that no font has.
func drawable(s string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsControl(r) || r == 0xfffe || r == 0xffff || r == utf8.RuneError {
			return '·'
		}
		return r
	}, s)
}

// text draws at a baseline; align is 0 for text that begins at x, -1 for text
// that ends there, -0.5 for text centred on it.
func (d *drawing) text(x, y, size float64, c color.Color, bold bool, align float64, s string) {
	s = drawable(s)
	f := font.Font{Typeface: "Liberation", Variant: "Sans", Size: vg.Length(size)}
	if bold {
		f.Weight = 2 // of golang.org/x/image/font: bold
	}
	style := draw.TextStyle{Color: c, Font: f, XAlign: text.XAlignment(align), YAlign: text.YBottom, Handler: d.fonts}
	p := d.point(x, y)
	p.Y -= style.Font.Size * 0.21 // from the baseline to the bottom of the line
	d.canvas.FillText(style, p, s)
}

func (d *drawing) timeAxis(bottom float64) {
	ticks := TimeTicks(d.From, d.To, d.Clock, 10)
	format := d.tickFormat(ticks)
	for _, t := range ticks {
		x := d.x(t)
		d.line(x, top-6, x, bottom+4, 0.6, grid)
		d.text(x, bottom+17, 11, ink2, false, -0.5, format(t))
	}
	d.line(left, bottom+0.5, Width-right, bottom+0.5, 0.8, ink2)
}

// tickFormat leaves out seconds where no tick needs them.
func (d *drawing) tickFormat(ticks []int64) func(int64) string {
	if d.Clock.Elapsed {
		return d.Clock.Format
	}
	whole := !slices.ContainsFunc(ticks, func(t int64) bool { return t%60e9 != 0 })
	return func(t int64) string {
		if whole {
			return d.Clock.FormatMinutes(t)
		}
		return d.Clock.Format(t)
	}
}

func (d *drawing) panel(p *Panel, from, to float64) {
	low, high := p.Limits()
	y := func(v float64) float64 { return to - (v-low)/(high-low)*(to-from) }
	d.rect(left, from, Width-left-right, to-from, color.NRGBA{0, 0, 0, 4})
	for _, v := range ValueTicks(low, high, max(2, int((to-from)/16))) {
		d.line(left-4, y(v), left, y(v), 0.8, ink2)
		d.text(left-8, y(v)+4, 10.5, ink2, false, -1, tickText(v, high-low))
	}
	d.text(14, from+13, 12, ink, true, 0, p.Name)
	what := p.Unit
	if p.Output {
		what += ", output"
	}
	d.text(14, from+27, 11, ink2, false, 0, what)
	d.points(p, low, high, from, to, y)
	d.signal(p, p.Signal.Extents(d.From, d.To, Width-left-right), from, to, y)
	d.line(left, from, left, to, 0.8, ink2)
}

// tickText prints an axis value with as many decimals as the span needs.
func tickText(v, span float64) string {
	decimals := max(0, 1-int(math.Floor(math.Log10(span))))
	s := fmt.Sprintf("%.*f", decimals, v)
	if strings.Contains(s, ".") {
		s = strings.TrimRight(strings.TrimRight(s, "0"), ".")
	}
	if s == "-0" {
		return "0"
	}
	return s
}

// points draws trip lines dashed, reset lines dotted and what a loop keeps as a
// whole line, the band between the first two of a rule shaded, and their labels
// beside the panel, none over another.
func (d *drawing) points(p *Panel, low, high, from, to float64, y func(float64) float64) {
	inside := func(v float64) bool { return v >= low && v <= high }
	for i, trip := range p.Points {
		for _, reset := range p.Points[i+1:] {
			if trip.Rule == reset.Rule && trip.Effect == logic.Trips && reset.Effect == logic.Resets && inside(trip.Value) && inside(reset.Value) {
				a, b := y(trip.Value), y(reset.Value)
				d.rect(left, min(a, b), Width-left-right, math.Abs(a-b), shade)
			}
		}
	}
	labels := slices.Clone(p.Points)
	slices.SortStableFunc(labels, func(a, b Point) int {
		switch {
		case a.Value > b.Value:
			return -1
		case a.Value < b.Value:
			return 1
		}
		return 0
	})
	at := from - labelHeight
	for i, pt := range labels {
		line := min(max(y(pt.Value), from), to)
		// Leave room below for the labels still to come.
		at = min(max(line, at+labelHeight), to-float64(labelHeight*(len(labels)-1-i)))
		end := float64(Width - right)
		if inside(pt.Value) {
			dashes := map[logic.Role][]vg.Length{logic.Trips: {6, 3}, logic.Resets: {1.5, 3}}[pt.Effect]
			d.line(left, y(pt.Value), end, y(pt.Value), 1, accent, dashes...)
			d.line(end, y(pt.Value), end+7, at, 0.6, accent)
		}
		label := pt.label()
		switch {
		case pt.Value > high:
			label += ", above"
		case pt.Value < low:
			label += ", below"
		}
		d.text(end+10, at+3.5, 9.5, accent, false, 0, label)
	}
}

// signal draws the extent of every pixel, holds the last value where there is
// no reading, and leaves a marked gap where the signal is bad. An output is
// filled down to the low end of its range.
func (d *drawing) signal(p *Panel, extents []recording.Extent, from, to float64, y func(float64) float64) {
	var run []vg.Point
	last := math.NaN()
	badFrom := -1
	flush := func() {
		if p.Output && len(run) > 1 {
			first, last := run[0], run[len(run)-1]
			foot := d.point(0, y(p.Low)).Y
			d.canvas.FillPolygon(filled, append(slices.Clone(run), vg.Point{X: last.X, Y: foot}, vg.Point{X: first.X, Y: foot}))
		}
		if len(run) > 1 {
			d.curve(run, 1.1, ink)
		}
		run = nil
	}
	endBad := func(i int) {
		if badFrom >= 0 {
			x, w := float64(left+badFrom), float64(max(i-badFrom, 1))
			d.rect(x, from, w, to-from, badBg)
			d.rect(x, to-3, w, 3, bad)
			if w > 30 {
				d.text(x+4, to-7, 10, bad, true, 0, "bad")
			}
		}
		badFrom = -1
	}
	for i, e := range extents {
		x := float64(left + i)
		switch {
		case e.Readings == 0 && badFrom >= 0:
			continue
		case e.Readings == 0:
			if !math.IsNaN(last) {
				run = append(run, d.point(x, y(last)))
			}
			continue
		case e.Bad && badFrom < 0:
			flush()
			badFrom = i
		case !e.Bad:
			endBad(i)
		}
		last = e.Last
		if math.IsNaN(e.Min) {
			continue
		}
		run = append(run, d.point(x, y(e.Max)), d.point(x, y(e.Min)))
		if !math.IsNaN(last) {
			run = append(run, d.point(x, y(last)))
		}
	}
	endBad(len(extents))
	flush()
}

func (d *drawing) lane(l *Lane, y float64) {
	base := y + laneHeight - 4
	d.text(left-10, base-1, 11, ink, false, -1, l.Name)
	d.text(Width-right+10, base-1, 10, ink2, false, 0, laneNote(l))
	d.line(left, base, Width-right, base, 0.7, grid)
	fill := color.Color(ink)
	switch l.Kind {
	case logic.InputKind:
		fill = light
	case logic.AlarmKind:
		fill = alarmed
	case logic.RuleKind, logic.MessageKind:
		fill = accent
	}
	if l.Plant {
		fill = light
	}
	drawn := map[logic.Stand]float64{} // where the last short span of a state was
	for _, s := range l.Spans {
		x := d.x(s.From)
		w := d.x(s.To) - x
		if w < 1 { // of many in a pixel, two are as good as all
			if last, is := drawn[s.Stand]; is && x-last < 0.5 {
				continue
			}
			drawn[s.Stand] = x
		}
		w = math.Max(w, 1)
		if l.Kind == logic.MessageKind {
			w = math.Max(w, 2)
		}
		if band, title, ok := l.Band(s.Stand); ok {
			if depth := l.Depth(band); depth > 0 {
				d.rect(x, base-11, w, 11, color.NRGBA{accent.R, accent.G, accent.B, uint8(70 + 185*depth)})
				if w > 7*float64(len(title)) {
					d.text(x+4, base-2, 9, paper, false, 0, title)
				}
			}
			continue
		}
		switch s.State {
		case logic.On:
			d.rect(x, base-11, w, 11, fill)
		case logic.Undecided:
			if l.Plant {
				continue // not read yet
			}
			d.hatch(x, base-11, w, 11, ink2)
		case logic.Bad:
			d.hatch(x, base-11, w, 11, bad)
		}
	}
}

// laneNote is what a lane is, and how often it turned on.
func laneNote(l *Lane) string {
	if l.Plant {
		return "as the plant did"
	}
	kind := map[logic.Kind]string{logic.InputKind: "contact", logic.RuleKind: "rule", logic.OutputKind: "output", logic.BandsKind: "bands", logic.AlarmKind: "alarm", logic.MessageKind: "message"}[l.Kind]
	if l.Kind == logic.MessageKind {
		return fmt.Sprintf("%s, sent %d times", kind, l.Starts)
	}
	switch l.Starts {
	case 0:
		return kind
	case 1:
		return kind + ", 1 start"
	}
	return fmt.Sprintf("%s, %d starts", kind, l.Starts)
}

// hatch fills a rectangle with slanting lines: undecided.
func (d *drawing) hatch(x, y, w, h float64, c color.Color) {
	if w < 5 { // too narrow for slanting lines
		for step := 1.0; step < h; step += 3 {
			d.line(x, y+step, x+w, y+step, 1, c)
		}
		return
	}
	d.rect(x, y, w, h, color.NRGBA{0, 0, 0, 10})
	for a := x - h; a < x+w; a += 5 {
		x0, y0, x1, y1 := a, y+h, a+h, y
		if x0 < x {
			x0, y0 = x, y+h-(x-a)
		}
		if x1 > x+w {
			x1, y1 = x+w, y+(a+h-x-w)
		}
		d.line(x0, y0, x1, y1, 0.9, c)
	}
}

func (d *drawing) legend() {
	y := d.tall - 12
	x := float64(left)
	d.line(x, y-4, x+26, y-4, 1, accent, 6, 3)
	d.text(x+32, y, 10, ink2, false, 0, "trip point")
	x += 100
	d.line(x, y-4, x+26, y-4, 1, accent, 1.5, 3)
	d.text(x+32, y, 10, ink2, false, 0, "reset point")
	x += 110
	d.rect(x, y-9, 26, 10, ink)
	d.text(x+32, y, 10, ink2, false, 0, "on")
	x += 70
	d.hatch(x, y-9, 26, 10, ink2)
	d.text(x+32, y, 10, ink2, false, 0, "undecided")
	x += 110
	d.rect(x, y-9, 26, 10, badBg)
	d.rect(x, y-2, 26, 3, bad)
	d.text(x+32, y, 10, ink2, false, 0, "bad signal")
	d.text(Width-right, y, 10, ink2, false, -1, "signals as the rules see them: scaled and filtered; "+unit.FormatDuration(d.To-d.From))
}
