package bench

import (
	"context"
	"fmt"
	"math"
	"net/http"
	"strings"

	"rectura/core/bench"
	"rectura/core/logic"
	"rectura/core/recording"
	"rectura/core/sheet"
	"rectura/core/signal"
	"rectura/core/unit"
	"rectura/service/api"
	"rectura/service/api/pool"
	"rectura/service/api/transport"
	"rectura/service/api/views"
	"rectura/service/store"
)

func pointViews(p *logic.Program) []api.Point {
	view := func(d sheet.Declaration, kind api.PointKind, u string) api.Point {
		h := d.Base()
		v := api.Point{
			Name:    h.Name,
			Title:   h.Title(),
			Kind:    kind,
			Unit:    u,
			File:    h.At.File,
			Line:    h.At.Line,
			Text:    sheet.PrintDeclaration(d),
			Notes:   []string{},
			Chain:   []api.Place{},
			Clauses: []string{},
			UsedBy:  append([]string{}, p.Job.UsedBy(h.Name)...),
		}
		if h.Tag != nil {
			v.Tag = h.Tag.Text
		}
		if h.Terminal != nil {
			v.Terminal = h.Terminal.Text
		}
		for _, n := range h.Notes {
			v.Notes = append(v.Notes, n.Text)
		}
		return v
	}
	points := []api.Point{}
	for i, in := range p.Job.Inputs {
		if in.Discrete {
			points = append(points, view(in, api.PointKindDiscrete, ""))
			continue
		}
		v := view(in, api.PointKindAnalog, in.Engineering().Name())
		v.Chain, v.Clauses = places(p.Inputs[i].Chain), append(v.Clauses, in.Clauses()...)
		points = append(points, v)
	}
	for i, d := range p.Job.Derived {
		points = append(points, view(d, api.PointKindDerived, p.Derived[i].Unit.Name()))
	}
	for _, o := range p.Job.Outputs {
		v := view(o, api.PointKindOutput, o.Unit().Name())
		for _, s := range o.Stages {
			v.Clauses = append(v.Clauses, s.String())
		}
		points = append(points, v)
	}
	return points
}

func places(c *signal.Chain) []api.Place {
	texts := c.StageTexts()
	all := make([]api.Place, len(c.Units))
	for i, name := range c.PlaceNames() {
		all[i] = api.Place{Unit: name}
		if i > 0 {
			all[i].Stage = texts[i-1]
		}
	}
	if at, low, high, ok := c.Healthy(); ok {
		text := unit.Short(low) + ".." + unit.Short(high)
		all[at].Healthy = &text
	}
	return all
}

// analog finds an analog input of a revision.
func (j *shelf) analog(ctx context.Context, revision int64, name string) (*logic.Input, error) {
	p, err := j.program(ctx, revision)
	if err != nil {
		return nil, err
	}
	i := p.Index(logic.InputKind, name)
	if i < 0 {
		return nil, fmt.Errorf("revision %d has no input named %s: %w", revision, name, store.ErrNotFound)
	}
	if p.Inputs[i].Chain == nil {
		return nil, transport.Refuse(http.StatusUnprocessableEntity, name+" is a discrete input and has no chain.")
	}
	return &p.Inputs[i], nil
}

// GetScale takes a reading through a chain.
func (s *Server) GetScale(ctx context.Context, request GetScaleRequestObject) (GetScaleResponseObject, error) {
	j, err := s.shelf(ctx, request.Job)
	if err != nil {
		return nil, err
	}
	in, err := j.analog(ctx, request.Params.Revision, request.Params.Input)
	if err != nil {
		return nil, err
	}
	value, at, err := in.Chain.ParseReading(in.Name, request.Params.Value)
	if err != nil {
		return nil, transport.Refuse(http.StatusUnprocessableEntity, err.Error())
	}
	v := GetScale200JSONResponse{Input: in.Name, At: at, Quality: api.ScaledQualityGood, Stages: []api.StageValue{}}
	for _, q := range in.Chain.Stages(value, at) {
		stage := api.StageValue{Unit: q.Unit.Name()}
		if !math.IsNaN(q.Value) && !math.IsInf(q.Value, 0) {
			stage.Value = &q.Value
		}
		v.Stages = append(v.Stages, stage)
	}
	if f := in.Chain.Judge(value, at); f != signal.None {
		v.Quality, v.Reason = api.ScaledQualityBad, in.Chain.Explain(f, value, at)
	}
	return v, nil
}

// curvePoints is how many points a curve is drawn through.
const curvePoints = 121

// GetCurve draws an input's chain from the reading to the value.
func (s *Server) GetCurve(ctx context.Context, request GetCurveRequestObject) (GetCurveResponseObject, error) {
	j, err := s.shelf(ctx, request.Job)
	if err != nil {
		return nil, err
	}
	in, err := j.analog(ctx, request.Params.Revision, request.Params.Input)
	if err != nil {
		return nil, err
	}
	c := in.Chain.Curve(curvePoints)
	units := in.Chain.Units
	return GetCurve200JSONResponse{
		X:           append([]float64{}, c.X...),
		Y:           append([]float64{}, c.Y...),
		XUnit:       units[0].Name(),
		YUnit:       units[len(units)-1].Name(),
		HealthyLow:  views.Finite(c.Low),
		HealthyHigh: views.Finite(c.High),
	}, nil
}

// GetHistogram counts how often an input was where.
func (s *Server) GetHistogram(ctx context.Context, request GetHistogramRequestObject) (GetHistogramResponseObject, error) {
	j, err := s.shelf(ctx, request.Job)
	if err != nil {
		return nil, err
	}
	q := request.Params
	_, c, err := j.trace(ctx, q.Revision, q.Recording, q.Point, otherwise{})
	if err != nil {
		return nil, refusal(err)
	}
	if c == nil {
		c = &recording.Column{Name: q.Point}
	}
	low, high, counts, bad := c.Histogram(q.Bins)
	return GetHistogram200JSONResponse{Low: low, High: high, Counts: counts, Bad: bad, Unit: c.Unit}, nil
}

// keep keeps a job with one sheet changed as the next revision; that it was made
// of must be the newest.
func (s *Server) keep(ctx context.Context, j *shelf, base int64, sources []sheet.Source, name, text, note string) (int64, error) {
	changed := bench.Changed(sources, name, text)
	job, _, found, err := s.check(ctx, changed)
	if err != nil {
		return 0, err
	}
	if sheet.HasErrors(found) {
		return 0, transport.RefuseFound(http.StatusUnprocessableEntity, "The job would have errors and was not kept.", found)
	}
	plays, err := j.plays(ctx, job, nil)
	if err != nil {
		return 0, err
	}
	r, _, err := j.AddRevision(ctx, s.revisionOf(job, note, len(found)), changed, plays, base)
	return r.Number, outdated(err, base)
}

// Calibrate makes an input's calibration, and keeps it if it is asked to.
func (s *Server) Calibrate(ctx context.Context, request CalibrateRequestObject) (CalibrateResponseObject, error) {
	j, err := s.shelf(ctx, request.Job)
	if err != nil {
		return nil, err
	}
	body := request.Body
	_, sources, err := j.Revision(ctx, body.Revision)
	if err != nil {
		return nil, err
	}
	var readings []bench.Reading
	for _, r := range body.Readings {
		reading, err := bench.ParseReading(r.Measured, r.Reference)
		if err != nil {
			return nil, transport.Refuse(http.StatusUnprocessableEntity, err.Error())
		}
		readings = append(readings, reading)
	}
	comment := "calibrated " + s.now().UTC().Format("2006-01-02")
	if note := strings.TrimSpace(views.Deref(body.Note)); note != "" {
		comment += ", " + strings.Join(strings.Fields(note), " ")
	}
	c, err := pool.Do(ctx, s.desk, func(context.Context) (*bench.Calibration, error) {
		c, err := bench.Calibrate(sources, body.Input, readings, comment)
		if err != nil {
			return nil, transport.Refuse(http.StatusUnprocessableEntity, err.Error())
		}
		return c, nil
	})
	if err != nil {
		return nil, err
	}
	v := Calibrate200JSONResponse{Input: c.Input, Unit: c.Unit.Name(), Clause: c.Clause, Points: []api.CalibrationPoint{}}
	for _, p := range c.Points {
		point := api.CalibrationPoint{Measured: p.Measured, Reference: p.Reference, AsFound: p.AsFound, AsLeft: p.AsLeft}
		if found, left := c.Percent(p.AsFound), c.Percent(p.AsLeft); !math.IsNaN(found) {
			point.AsFoundPercent, point.AsLeftPercent = &found, &left
		}
		v.Points = append(v.Points, point)
	}
	if body.Keep != nil && *body.Keep {
		number, err := s.keep(ctx, j, body.Revision, sources, c.Sheet, c.Text, c.Input+" "+comment)
		if err != nil {
			return nil, err
		}
		v.Revision = &number
	}
	return v, nil
}

// Teach proposes a trip point, and keeps it as a rule if it is asked to.
func (s *Server) Teach(ctx context.Context, request TeachRequestObject) (TeachResponseObject, error) {
	j, err := s.shelf(ctx, request.Job)
	if err != nil {
		return nil, err
	}
	body := request.Body
	_, sources, err := j.Revision(ctx, body.Revision)
	if err != nil {
		return nil, err
	}
	p, err := j.program(ctx, body.Revision)
	if err != nil {
		return nil, err
	}
	r, err := j.recording(ctx, body.Recording)
	if err != nil {
		return nil, err
	}
	window := func(w api.TimeWindow) [2]int64 {
		return [2]int64{r.Origin + nanoseconds(min(w.From, w.To)), r.Origin + nanoseconds(max(w.From, w.To))}
	}
	l, err := pool.Do(ctx, s.bench, func(work context.Context) (*bench.Lesson, error) {
		l, err := bench.Teach(p.Program, r, body.Input, window(body.Normal), window(body.Trouble), pool.Stop(work))
		if err != nil {
			return nil, refusal(err)
		}
		return l, nil
	})
	if err != nil {
		return nil, err
	}
	v := Teach200JSONResponse{
		Input:          l.Input,
		Unit:           l.Unit.Name(),
		Normal:         lessonWindow(l.Normal),
		Trouble:        lessonWindow(l.Trouble),
		Separable:      l.Separable,
		Direction:      api.LessonDirectionRising,
		Trip:           l.Trip,
		Reset:          l.Reset,
		Hysteresis:     l.Hysteresis(),
		OnDelaySeconds: seconds(l.OnDelay),
		Margin:         l.Margin,
		Advice:         l.Advice,
	}
	if l.Falling {
		v.Direction = api.LessonDirectionFalling
	}
	if !l.Separable {
		return v, nil
	}
	rule := views.Deref(body.Rule)
	name := rule
	if name == "" {
		name = l.Input + "_trouble"
	}
	if v.Text, err = l.Declarations(name, views.Deref(body.Output)); err != nil {
		return nil, transport.Refuse(http.StatusUnprocessableEntity, err.Error())
	}
	if rule != "" {
		file, changed, err := l.WriteRule(sources, rule, views.Deref(body.Output))
		if err != nil {
			return nil, transport.Refuse(http.StatusUnprocessableEntity, err.Error())
		}
		number, err := s.keep(ctx, j, body.Revision, sources, file, changed, "Rule "+rule+", taught from a recording")
		if err != nil {
			return nil, err
		}
		v.Revision = &number
	}
	return v, nil
}

func lessonWindow(w bench.Window) api.LessonWindow {
	return api.LessonWindow{Low: w.Low, High: w.High, Noise: w.Noise, Readings: w.Samples}
}
