package bench

import (
	"context"
	"math"
	"time"

	"rectura/core/bench"
	"rectura/core/unit"
	"rectura/service/api"
	"rectura/service/api/pool"
	"rectura/service/api/views"
)

// Explain says why something is as it is at a time of a replay.
func (s *Server) Explain(ctx context.Context, request ExplainRequestObject) (ExplainResponseObject, error) {
	j, err := s.shelf(ctx, request.Job)
	if err != nil {
		return nil, err
	}
	body := request.Body
	options, err := otherwiseOf(body.Set, body.Scan).options()
	if err != nil {
		return nil, err
	}
	p, err := j.program(ctx, body.Revision)
	if err != nil {
		return nil, err
	}
	a, err := pool.Do(ctx, s.bench, func(work context.Context) (*bench.Explanation, error) {
		r, err := j.recording(work, body.Recording)
		if err != nil {
			return nil, err
		}
		options.Stop = pool.Stop(work)
		at := r.Origin + nanoseconds(math.Round(body.T*1000)/1000) // nobody means a part of a millisecond
		if at > r.End && at <= r.End+int64(time.Millisecond) {
			at = r.End // it was rounded up
		}
		a, err := bench.Why(p.Program, r, options, body.Name, at)
		if err != nil {
			return nil, refusal(err)
		}
		return a, nil
	})
	if err != nil {
		return nil, err
	}
	clock := a.Recording.Clock
	v := Explain200JSONResponse{
		Name:    a.Name,
		Kind:    a.Kind.String(),
		Time:    clock.FormatMillis(a.At),
		State:   a.StateText(),
		Since:   clock.FormatMillis(a.Since),
		Because: a.Because,
		Reasons: append([]int{}, a.Reasons...),
		Grounds: views.Grounds(a.Grounds),
		Misses:  []api.Miss{},
	}
	for _, m := range a.Misses {
		v.Misses = append(
			v.Misses,
			api.Miss{
				Rule:   p.Rules[m.Rule].Name,
				From:   clock.Format(m.From),
				To:     clock.Format(m.To),
				Lasted: unit.FormatDuration(m.To - m.From),
				Delay:  unit.FormatDuration(m.Of),
				Until:  m.Until,
			},
		)
	}
	if a.Next != nil {
		v.Next = &api.NextChange{Time: clock.FormatMillis(a.Next.Time), To: a.NextState(), Because: a.NextText}
	}
	return v, nil
}
