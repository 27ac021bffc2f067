package bench

import (
	"cmp"
	"context"
	"fmt"
	"math"
	"net/http"
	"strings"
	"time"

	"rectura/core/capture"
	"rectura/core/logic"
	"rectura/core/recording"
	"rectura/core/unit"
	"rectura/service/api/inside"
	"rectura/service/api/pool"
	"rectura/service/api/transport"
	"rectura/service/api/views"
	"rectura/service/store"
)

// KeepCapture keeps a stretch of what was captured as a recording.
func (s *Server) KeepCapture(ctx context.Context, request KeepCaptureRequestObject) (KeepCaptureResponseObject, error) {
	p, err := s.post(ctx, request.Job)
	if err != nil {
		return nil, err
	}
	j := p.shelf
	if j == nil {
		return nil, transport.Refuse(http.StatusConflict, inside.Lost(p.name))
	}
	b := request.Body
	name := strings.TrimSpace(b.Name)
	if name == "" {
		return nil, transport.Refuse(http.StatusUnprocessableEntity, "A recording needs a name.")
	}
	if !b.From.Before(b.To) {
		return nil, transport.Refuse(http.StatusUnprocessableEntity, "The stretch ends before it begins; give the earlier time first.")
	}
	kept, err := pool.Do(ctx, s.bench, func(work context.Context) (*store.Recording, error) {
		r, err := s.captured(work, p, views.Nanos(b.From), views.Nanos(b.To))
		if err != nil {
			return nil, err
		}
		id, err := j.AddRecording(work, name, r, nil, s.now())
		if err != nil {
			return nil, err
		}
		return j.Recording(work, id)
	})
	if err != nil {
		return nil, err
	}
	return KeepCapture201JSONResponse(recordingView(kept)), nil
}

// longestStretch bounds how much of a capture becomes one recording.
const longestStretch = 31 * 24 * time.Hour

// mostReadings bounds how many readings such a recording has.
const mostReadings = 50_000_000

// captured makes a recording of what entered a job from one time to another: a column an input, which begins with what it
// read before. A reading that its device did not have is bad.
func (s *Server) captured(ctx context.Context, p *post, from, to int64) (*recording.Recording, error) {
	if to-from > int64(longestStretch) {
		return nil, transport.Refuse(
			http.StatusUnprocessableEntity,
			"A stretch is "+unit.FormatDuration(int64(longestStretch))+" long at the most.",
		)
	}
	x := &stretch{from: from, to: to, columns: map[string]int{}, held: map[string]float64{},
		builder: recording.NewBuilder(nil, recording.Clock{Zone: p.wall.String()})}
	x.builder.Limit(mostReadings)
	err := s.records.Record(ctx, p.number, func(r *store.Record) error {
		segments, err := r.Segments(from, to)
		if err != nil {
			return err
		}
		for _, seg := range segments {
			if err := s.takeSegment(ctx, p, r, seg, x); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	x.begin()
	r, _ := x.builder.Finish()
	if len(r.Columns) == 0 {
		return nil, transport.Refuse(
			http.StatusUnprocessableEntity,
			"Nothing was captured from "+p.wall.At(from).Format(time.DateTime)+" to "+p.wall.At(to).Format(time.DateTime)+".",
		)
	}
	return r, nil
}

// takeSegment takes the readings of one segment.
func (s *Server) takeSegment(ctx context.Context, p *post, r *store.Record, seg store.Segment, x *stretch) error {
	if seg.Earlier {
		return transport.Refuse(http.StatusUnprocessableEntity, fmt.Sprintf(
			"What was captured until %s was captured by an earlier form of this program, and cannot be read; keep what came after.",
			p.wall.At(seg.Ends).Format(time.DateTime)))
	}
	program, err := s.ran(ctx, p.number, seg.Revision)
	if err != nil {
		return err
	}
	c, err := r.Captured(seg.ID)
	if err != nil {
		return err
	}
	var decoder capture.Decoder
	for _, data := range c.Stretches {
		if err := ctx.Err(); err != nil {
			return err
		}
		err := decoder.Read(data, func(events []capture.Event) error {
			for i := range events {
				if x.builder.Over() {
					return transport.Refuse(
						http.StatusUnprocessableEntity,
						fmt.Sprintf("That stretch has more than %d readings; keep a shorter one.", mostReadings),
					)
				}
				if err := x.take(program, &events[i]); err != nil {
					return err
				}
			}
			return nil
		})
		if err != nil {
			return fmt.Errorf("reading what was captured from %s on: %w", p.wall.At(seg.Begins).Format(time.DateTime), err)
		}
	}
	return nil
}

// A stretch of a capture becomes a recording.
type stretch struct {
	from, to int64
	last     int64
	begun    bool
	columns  map[string]int
	all      []*recording.Column
	held     map[string]float64 // what inputs read before it begins
	builder  *recording.Builder
}

// take takes what entered, if it is a reading.
func (x *stretch) take(p *logic.Program, e *capture.Event) error {
	value := e.Value
	switch {
	case e.Kind == capture.Failing:
		value = math.NaN()
	case e.Kind != capture.Reading:
		return nil
	}
	if p.Watched(logic.Ref{Kind: logic.InputKind, Index: e.Of}) || e.T >= x.to {
		return nil
	}
	in := &p.Inputs[e.Of]
	if e.T < x.from {
		if !x.begun {
			x.held[in.Name] = value
			x.all[x.column(in)].Unit = unitOf(in)
		}
		return nil
	}
	x.begin()
	column := x.column(in)
	if was, is := x.all[column].Unit, unitOf(in); was != is {
		return transport.Refuse(
			http.StatusUnprocessableEntity,
			fmt.Sprintf("Within this stretch another revision took over, for which %s is read in %s and not in %s; keep what was "+
				"before that, or what came after, alone.", in.Name, cmp.Or(is, "no unit"), cmp.Or(was, "no unit")),
		)
	}
	if e.T < x.last {
		return transport.Refuse(
			http.StatusUnprocessableEntity,
			"The clock was set back within this stretch; keep what was before that, or what came after, alone.",
		)
	}
	x.last = e.T
	x.builder.Sparse(e.T, []recording.Reading{{Column: column, Value: value}})
	return nil
}

// begin begins the recording with what was read before.
func (x *stretch) begin() {
	if x.begun {
		return
	}
	x.begun, x.last = true, x.from
	var some []recording.Reading
	for name, value := range x.held {
		some = append(some, recording.Reading{Column: x.columns[name], Value: value})
	}
	if len(some) > 0 {
		x.builder.Sparse(x.from, some)
	}
}

func (x *stretch) column(in *logic.Input) int {
	if i, is := x.columns[in.Name]; is {
		return i
	}
	c := &recording.Column{Name: in.Name, Unit: unitOf(in)}
	i := x.builder.AddColumn(c)
	x.columns[in.Name] = i
	x.all = append(x.all, c)
	return i
}

// unitOf is the unit in which a device's reading enters an input; empty for a contact.
func unitOf(in *logic.Input) string {
	if in.Chain == nil {
		return ""
	}
	return in.Chain.Units[0].Name()
}
