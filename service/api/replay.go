package api

import (
	"context"
	"math"
	"net/http"
	"slices"
	"time"

	"rectura/core/bench"
	"rectura/core/logic"
	"rectura/core/plot"
	"rectura/core/recording"
	"rectura/core/unit"
)

// defaultMost is the number of transitions answered with unless asked otherwise.
const defaultMost = 5000

// Replay plays a stored recording through a stored revision.
func (s *Server) Replay(ctx context.Context, request ReplayRequestObject) (ReplayResponseObject, error) {
	body := request.Body
	options, err := replayOptions(body)
	if err != nil {
		return nil, err
	}
	p, err := s.library.program(ctx, body.Revision)
	if err != nil {
		return nil, err
	}
	known, err := s.store.Recording(ctx, body.Recording)
	if err != nil {
		return nil, err
	}
	r, err := s.library.part(ctx, body.Recording, text(body.From), text(body.To))
	if err != nil {
		return nil, refusal(err)
	}
	select {
	case s.playing <- struct{}{}:
		defer func() { <-s.playing }()
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	began := time.Now()
	result, err := bench.Replay(p, r, options)
	if err != nil {
		return nil, refusal(err)
	}
	took := time.Since(began)
	chart, err := plot.FromReplay(result, p.Job.Title, known.Name)
	if err != nil {
		return nil, err
	}
	most := defaultMost
	if body.Most != nil {
		most = *body.Most
	}
	return Replay200JSONResponse{
		Job: p.Job.Title, Revision: body.Revision, Recording: known.Name, Clock: clockView(r.Clock, r.Origin),
		Seconds: seconds(r.End - r.Start), Samples: r.Samples(), Took: took.Seconds(),
		Transitions: transitionViews(result, most), TransitionsTotal: len(result.Transitions),
		Summary: summaryViews(result), Panels: panelViews(result, chart), Lanes: laneViews(result, chart),
		Warnings: append([]string{}, append(result.Warnings, r.Notes...)...),
	}, nil
}

// refusal turns an error of the bench, which is about what was asked for, into
// one that the caller is told.
func refusal(err error) error {
	if p := problem(err); p.Status != http.StatusInternalServerError {
		return err
	}
	return refuse(http.StatusUnprocessableEntity, err.Error())
}

func text(s *string) string {
	if s == nil {
		return ""
	}
	return *s
}

func replayOptions(body *ReplayRequest) (o bench.Options, err error) {
	o.Set = map[string]unit.Quantity{}
	if body.Set != nil {
		for name, value := range *body.Set {
			if o.Set[name], err = bench.ParseValue(value); err != nil {
				return o, refuse(http.StatusUnprocessableEntity, name+": "+err.Error())
			}
		}
	}
	if scan := text(body.Scan); scan != "" {
		if o.Scan, err = unit.ParseDuration(scan); err != nil {
			return o, refuse(http.StatusUnprocessableEntity, "scan: "+err.Error())
		}
	}
	return o, nil
}

// transitionViews gives each transition the reasons that led to it, down to
// the readings: an output's callers bring the reasons of their own last change.
func transitionViews(r *bench.Result, most int) []Transition {
	p, clock := r.Program, r.Recording.Clock
	last := make([][]Reason, len(p.Rules)) // the reasons of each rule's last change
	bands := make([][]Reason, len(p.Bands))
	all := []Transition{}
	for _, t := range r.Transitions {
		if len(all) == most {
			break
		}
		from, to := p.States(t)
		v := Transition{T: seconds(t.Time - r.Recording.Origin), Time: clock.FormatMillis(t.Time), Name: p.Name(t.Kind, int(t.Index)),
			Kind: TransitionKind(t.Kind.String()), From: from, To: to, Because: p.Sentence(t, clock.Format), Reasons: []Reason{}}
		for _, term := range slices.Concat(t.Reason.Terms, t.Reason.Permit) {
			reason := Reason{Text: p.TermText(term), Reasons: []Reason{}}
			switch term.Kind {
			case logic.RuleTerm:
				reason.Reasons = append(reason.Reasons, last[term.Rule]...)
			case logic.BandTerm:
				reason.Reasons = append(reason.Reasons, bands[term.Rule]...)
			}
			if term.For > 0 {
				delay := logic.DelayText(term, t.Time, clock.Format)
				reason.Since = &delay
			}
			if stages := p.Stages(term); stages != nil {
				views := quantities(stages)
				reason.Stages = &views
			}
			v.Reasons = append(v.Reasons, reason)
		}
		switch t.Kind {
		case logic.RuleKind, logic.AlarmKind:
			last[t.Index] = v.Reasons
		case logic.BandsKind:
			bands[t.Index] = v.Reasons
		}
		for _, i := range t.Reason.Callers {
			caller := p.Calling[i]
			because := last
			if caller.Kind == logic.BandsKind {
				because = bands
			}
			v.Reasons = append(v.Reasons, Reason{Text: p.CallerText(t.Reason.Cause, i), Reasons: append([]Reason{}, because[caller.Index]...)})
		}
		all = append(all, v)
	}
	return all
}

func summaryViews(r *bench.Result) []Summary {
	all := []Summary{}
	for _, sum := range r.Summary {
		all = append(all, Summary{Name: sum.Name, Kind: sum.Kind.String(), Starts: sum.Starts, OnSeconds: seconds(sum.On), UndecidedSeconds: seconds(sum.Undecided), Final: r.Program.StateText(sum.Kind, int(sum.Index), sum.Final)})
	}
	return all
}

func panelViews(r *bench.Result, c *plot.Chart) []Panel {
	all := []Panel{}
	for i := range c.Panels {
		panel := &c.Panels[i]
		v := Panel{Input: panel.Name, Title: r.Program.Job.Lookup(panel.Name).Base().Title(), Unit: panel.Unit, Points: []RulePoint{}}
		v.Low, v.High = panel.Limits()
		for rule := range r.Program.Rules {
			for _, pt := range r.Program.RulePoints(rule, r.Settings) {
				if pt.Name == panel.Name {
					v.Points = append(v.Points, rulePointView(r.Program, pt))
				}
			}
		}
		all = append(all, v)
	}
	return all
}

func laneViews(r *bench.Result, c *plot.Chart) []Lane {
	all := []Lane{}
	for i := range c.Lanes {
		lane := &c.Lanes[i]
		v := Lane{Name: lane.Name, Title: r.Program.Job.Lookup(lane.Name).Base().Title(), Kind: LaneKind(lane.Kind.String()), Starts: lane.Starts, Spans: []Span{}}
		if lane.Plant {
			v.Kind = LaneKindPlant
		}
		for _, span := range lane.Spans {
			state := SpanState(span.State.String())
			if (lane.Kind == logic.InputKind || lane.Plant) && span.State == logic.Undecided {
				state = SpanStateUnread
			}
			view := Span{From: seconds(span.From - r.Recording.Origin), To: seconds(span.To - r.Recording.Origin), State: state}
			if level, title, ok := lane.Band(span.State); ok {
				view.State = SpanStateOff
				if depth := lane.Depth(level); depth > 0 {
					view.State, view.Label, view.Depth = SpanStateOn, &title, &depth
				}
			}
			v.Spans = append(v.Spans, view)
		}
		all = append(all, v)
	}
	return all
}

// GetSeries gives an input for a window and a number of pixels.
func (s *Server) GetSeries(ctx context.Context, request GetSeriesRequestObject) (GetSeriesResponseObject, error) {
	q := request.Params
	if q.Pixels < 1 || q.Pixels > 8192 {
		return nil, refuse(http.StatusUnprocessableEntity, "The number of pixels is from 1 to 8192.")
	}
	_, r, c, err := s.library.trace(ctx, q.Revision, q.Recording, q.Point)
	if err != nil {
		return nil, refusal(err)
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
		return nil, refuse(http.StatusUnprocessableEntity, "The window ends before it begins.")
	}
	answer := GetSeries200JSONResponse{Point: c.Name, Unit: c.Unit, T: []float64{}, Min: []*float64{}, Max: []*float64{}, Bad: []bool{}}
	width := seconds(to-from) / float64(q.Pixels)
	for i, e := range c.Extents(from, to, q.Pixels) {
		if e.Readings == 0 {
			continue
		}
		answer.T = append(answer.T, seconds(from-r.Origin)+width*(float64(i)+0.5))
		answer.Bad = append(answer.Bad, e.Bad)
		low, high := e.Min, e.Max
		if math.IsNaN(low) {
			answer.Min, answer.Max = append(answer.Min, nil), append(answer.Max, nil)
			continue
		}
		answer.Min, answer.Max = append(answer.Min, &low), append(answer.Max, &high)
	}
	return answer, nil
}

// GetValues gives the analog inputs at one time.
func (s *Server) GetValues(ctx context.Context, request GetValuesRequestObject) (GetValuesResponseObject, error) {
	q := request.Params
	p, err := s.library.program(ctx, q.Revision)
	if err != nil {
		return nil, err
	}
	answer := GetValues200JSONResponse{}
	for i := range p.Inputs {
		in := &p.Inputs[i]
		if in.Chain == nil {
			continue
		}
		_, r, c, err := s.library.trace(ctx, q.Revision, q.Recording, in.Name)
		if err != nil {
			return nil, refusal(err)
		}
		if c == nil {
			continue
		}
		v, read := c.Held(r.Origin + nanoseconds(q.T))
		if !read {
			continue
		}
		view := Value{Point: in.Name, Unit: c.Unit}
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
