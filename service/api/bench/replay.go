package bench

import (
	"context"
	"errors"
	"math"
	"net/http"
	"slices"

	"rectura/core/bench"
	"rectura/core/logic"
	"rectura/core/plot"
	"rectura/core/recording"
	"rectura/service/api"
	"rectura/service/api/pool"
	"rectura/service/api/transport"
	"rectura/service/api/views"
)

// defaultMost is the number of transitions answered with unless asked otherwise.
const defaultMost = 5000

// Replay plays a stored recording through a stored revision.
func (s *Server) Replay(ctx context.Context, request ReplayRequestObject) (ReplayResponseObject, error) {
	j, err := s.shelf(ctx, request.Job)
	if err != nil {
		return nil, err
	}
	body := request.Body
	p, err := j.program(ctx, body.Revision)
	if err != nil {
		return nil, err
	}
	known, err := j.Recording(ctx, body.Recording)
	if err != nil {
		return nil, err
	}
	first, most := 0, defaultMost
	if body.First != nil {
		first = *body.First
	}
	if body.Most != nil {
		most = *body.Most
	}
	o := otherwiseOf(body.Set, body.Scan)
	key := replayKey{revision: body.Revision, recording: body.Recording, from: views.Deref(body.From), to: views.Deref(body.To), page: first / replayPage}
	v, err := j.replay(ctx, p, key, o)
	if err != nil {
		return nil, err
	}
	from := min(first-key.page*replayPage, len(v.Transitions))
	to := min(from+most, len(v.Transitions))
	r := v.Recording
	answer := Replay200JSONResponse{
		Job: p.Job.Title, Revision: body.Revision, Recording: known.Name, Clock: clockView(r.Clock, r.Origin),
		Seconds: seconds(r.End - r.Start), Samples: r.Samples(), Took: v.took.Seconds(),
		Transitions: transitionViews(v.Result, v.Transitions[from:to]), TransitionsTotal: v.Changes,
		Summary: []api.Summary{}, Panels: []api.Panel{}, Lanes: []api.Lane{}, Warnings: []string{}, Marks: []api.Mark{},
	}
	if first == 0 { // a later page is of transitions alone
		for _, m := range v.Marks {
			answer.Marks = append(answer.Marks, api.Mark{T: seconds(m.Time - r.Origin), Number: m.Number})
		}
		answer.Summary, answer.Panels, answer.Lanes = summaryViews(v.Result), panelViews(v.Result, v.chart), laneViews(v.Result, v.chart)
		answer.Warnings = append(answer.Warnings, slices.Concat(v.Warnings, v.Notes, r.Notes)...)
	}
	return answer, nil
}

// refusal turns an error of the bench, which is about what was asked for, into
// one that the caller is told.
func refusal(err error) error {
	if p := transport.ProblemOf(err); p.Status != http.StatusInternalServerError || pool.IsGivenUp(err) ||
		errors.Is(err, context.Canceled) ||
		errors.Is(err, context.DeadlineExceeded) {
		return err
	}
	return transport.Refuse(http.StatusUnprocessableEntity, err.Error())
}

// transitionViews gives each transition its reasons, which name others by their
// numbers.
func transitionViews(r *bench.Result, some []logic.Transition) []api.Transition {
	p, clock := r.Program, r.Recording.Clock
	all := []api.Transition{}
	for _, t := range some {
		from, to := p.States(t)
		v := api.Transition{Number: t.Number, T: seconds(t.Time - r.Recording.Origin), Time: clock.FormatMillis(t.Time), Name: p.Name(t.Ref),
			Kind: api.TransitionKind(t.Kind.String()), From: from, To: to, Because: p.Sentence(t, clock.Format), Reasons: []api.Reason{}}
		for _, term := range slices.Concat(t.Reason.Terms, t.Reason.Permit) {
			reason := api.Reason{Text: p.TermText(term), Transition: numbered(term.From)}
			if term.For > 0 {
				delay := logic.DelayText(term, t.Time, clock.Format)
				reason.Since = &delay
			}
			if stages := p.Stages(term); stages != nil {
				quantities := views.Quantities(stages)
				reason.Stages = &quantities
			}
			v.Reasons = append(v.Reasons, reason)
		}
		for k, i := range t.Reason.Callers {
			v.Reasons = append(v.Reasons, api.Reason{Text: p.CallerText(t.Reason.Cause, i), Transition: numbered(t.Reason.From[k])})
		}
		all = append(all, v)
	}
	return all
}

// numbered is the number of a transition; nil for none.
func numbered(n int64) *int64 {
	if n < 0 {
		return nil
	}
	return &n
}

func summaryViews(r *bench.Result) []api.Summary {
	all := []api.Summary{}
	for _, sum := range r.Summary {
		v := api.Summary{Name: sum.Name, Kind: sum.Kind.String(), UndecidedSeconds: seconds(sum.Undecided)}
		if x := sum.Range; x != nil {
			o := &r.Program.Outputs[sum.Index]
			u := o.Unit.Name()
			v.Min, v.Max, v.Mean, v.Unit, v.Final = views.Finite(x.Min), views.Finite(x.Max), views.Finite(x.Mean), &u, o.Text(x.Final)
		} else {
			on := seconds(sum.On)
			v.Starts, v.OnSeconds, v.Final = &sum.Starts, &on, r.Program.StandText(sum.Ref, sum.Final)
		}
		all = append(all, v)
	}
	return all
}

func panelViews(r *bench.Result, c *plot.Chart) []api.Panel {
	all := []api.Panel{}
	points := r.Program.PointsBySignal(r.Settings)
	for i := range c.Panels {
		panel := &c.Panels[i]
		v := api.Panel{
			Input:  panel.Name,
			Output: panel.Output,
			Title:  r.Program.Job.Lookup(panel.Name).Base().Title(),
			Unit:   panel.Unit,
			Points: []api.RulePoint{},
		}
		v.Low, v.High = panel.Limits()
		for _, pt := range points[panel.Name] {
			v.Points = append(v.Points, rulePointView(pt))
		}
		all = append(all, v)
	}
	return all
}

func laneViews(r *bench.Result, c *plot.Chart) []api.Lane {
	all := []api.Lane{}
	for i := range c.Lanes {
		lane := &c.Lanes[i]
		v := api.Lane{
			Name:   lane.Name,
			Title:  r.Program.Job.Lookup(lane.Name).Base().Title(),
			Kind:   api.LaneKind(lane.Kind.String()),
			Starts: lane.Starts,
			Spans:  []api.Span{},
		}
		if lane.Plant {
			v.Kind = api.LaneKindPlant
		}
		spans, merged := merge(lane.Spans)
		v.Merged = merged
		for _, span := range spans {
			if span.several {
				v.Spans = append(
					v.Spans,
					api.Span{From: seconds(span.From - r.Recording.Origin), To: seconds(span.To - r.Recording.Origin), State: api.SpanStateSeveral},
				)
				continue
			}
			state := api.SpanState(span.State.String())
			if (lane.Kind == logic.InputKind || lane.Plant) && span.State == logic.Undecided {
				state = api.SpanStateUnread
			}
			view := api.Span{From: seconds(span.From - r.Recording.Origin), To: seconds(span.To - r.Recording.Origin), State: state}
			if level, title, ok := lane.Band(span.Stand); ok {
				view.State = api.SpanStateOff
				if depth := lane.Depth(level); depth > 0 {
					view.State, view.Label, view.Depth = api.SpanStateOn, &title, &depth
				}
			}
			v.Spans = append(v.Spans, view)
		}
		all = append(all, v)
	}
	return all
}

// A laneSpan is a span, or several that are too short to be told apart.
type laneSpan struct {
	bench.Span
	several bool
}

// mostSpans is about how many spans a lane is answered with.
const mostSpans = 2000

// merge joins spans that follow each other and are shorter than a lane can show,
// where there are very many of them. It tells how many were joined.
func merge(all []bench.Span) (spans []laneSpan, merged int) {
	least := int64(0)
	if n := len(all); n > mostSpans {
		least = (all[n-1].To - all[0].From) / mostSpans
	}
	for _, s := range all {
		n := len(spans)
		if s.To-s.From >= least || n == 0 {
			spans = append(spans, laneSpan{s, false})
			continue
		}
		if last := &spans[n-1]; last.To-last.From < least {
			last.To = s.To
			merged++
			if !last.several {
				last.several = true
				merged++
			}
			continue
		}
		spans = append(spans, laneSpan{s, false})
	}
	return spans, merged
}

// GetSeries gives an input or an analog output for a window and a number of
// pixels.
func (s *Server) GetSeries(ctx context.Context, request GetSeriesRequestObject) (GetSeriesResponseObject, error) {
	j, err := s.shelf(ctx, request.Job)
	if err != nil {
		return nil, err
	}
	q := request.Params
	r, c, err := j.trace(ctx, q.Revision, q.Recording, q.Point, playedBy(q.Set, q.Scan))
	if err != nil {
		return nil, err
	}
	if c == nil {
		c = &recording.Column{Name: q.Point}
	}
	from, to := r.Start, r.End
	if q.From != nil {
		from = r.Origin + nanoseconds(*q.From)
	}
	if q.To != nil {
		to = r.Origin + nanoseconds(*q.To)
	}
	if to <= from && r.End > r.Start {
		return nil, transport.Refuse(http.StatusUnprocessableEntity, "The window ends before it begins.")
	}
	return GetSeries200JSONResponse(seriesView(c, from, to, q.Pixels, r.Origin)), nil
}

// otherwiseOf is how a request has a job played.
func otherwiseOf(set *map[string]string, scan *string) otherwise {
	o := otherwise{scan: views.Deref(scan)}
	if set != nil {
		for name, value := range *set {
			o.set = append(o.set, name+"="+value)
		}
	}
	return o
}

func playedBy(set *[]string, scan *string) otherwise {
	o := otherwise{scan: views.Deref(scan)}
	if set != nil {
		o.set = *set
	}
	return o
}

// seriesView has a point for every pixel from the first that has been read on.
func seriesView(c *recording.Column, from, to int64, pixels int, origin int64) api.Series {
	v := api.Series{Point: c.Name, Unit: c.Unit, T: []float64{}, Min: []*float64{}, Max: []*float64{}, Bad: []bool{}}
	width := seconds(to-from) / float64(pixels)
	all, first := c.HeldExtents(from, to, pixels)
	for i, e := range all[first:] {
		v.T = append(v.T, seconds(from-origin)+width*(float64(first+i)+0.5))
		v.Min, v.Max, v.Bad = append(v.Min, views.Finite(e.Min)), append(v.Max, views.Finite(e.Max)), append(v.Bad, e.Bad)
	}
	return v
}

// GetValues gives the analog inputs and outputs at one time.
func (s *Server) GetValues(ctx context.Context, request GetValuesRequestObject) (GetValuesResponseObject, error) {
	j, err := s.shelf(ctx, request.Job)
	if err != nil {
		return nil, err
	}
	q := request.Params
	p, err := j.program(ctx, q.Revision)
	if err != nil {
		return nil, err
	}
	var names []string
	for i := range p.Inputs {
		if p.Inputs[i].Chain != nil {
			names = append(names, p.Inputs[i].Name)
		}
	}
	for i := range p.Outputs {
		if p.Outputs[i].Analog() {
			names = append(names, p.Outputs[i].Name)
		}
	}
	answer := GetValues200JSONResponse{}
	for _, name := range names {
		r, c, err := j.trace(ctx, q.Revision, q.Recording, name, playedBy(q.Set, q.Scan))
		if err != nil {
			return nil, err
		}
		if c == nil {
			continue
		}
		v, read := c.Held(r.Origin + nanoseconds(q.T))
		if !read {
			continue
		}
		view := api.Value{Point: name, Unit: c.Unit}
		if !math.IsNaN(v) {
			view.Value = &v
		}
		answer = append(answer, view)
	}
	return answer, nil
}

// nanoseconds is a number of seconds in nanoseconds, kept within what an int64
// recording can span.
func nanoseconds(s float64) int64 {
	const most = 1e9 // seconds; 31 years
	return int64(math.Max(-most, math.Min(s, most)) * 1e9)
}
