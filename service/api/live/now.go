package live

import (
	"bytes"
	"context"
	"encoding/json"
	"math"
	"net/http"

	"github.com/labstack/echo/v4"

	"rectura/service/api"
	"rectura/service/api/views"
	"rectura/service/live"
)

// encodedNow answers with a view that was encoded for several who ask.
type encodedNow []byte

// VisitGetNowResponse writes it.
func (n encodedNow) VisitGetNowResponse(w http.ResponseWriter) error {
	w.Header().Set(echo.HeaderContentType, echo.MIMEApplicationJSON)
	_, err := w.Write(n)
	return err
}

// GetNow tells everything of a job that is run. However many ask within half a second, it is worked out once.
func (s *Server) GetNow(ctx context.Context, request GetNowRequestObject) (GetNowResponseObject, error) {
	p, err := s.engine(ctx, request.Job)
	if err != nil {
		return nil, err
	}
	picture, err := p.engine.Now(ctx)
	if err != nil {
		return nil, problem(err)
	}
	data, err := picture.Encoded(func(now *live.Now) ([]byte, error) {
		var all bytes.Buffer
		err := json.NewEncoder(&all).Encode(nowView(views.Wall{Location: p.engine.Zone()}, now))
		return all.Bytes(), err
	})
	return encodedNow(data), err
}

func nowView(w views.Wall, now *live.Now) api.Now {
	v := api.Now{
		Status:    statusView(w, now.Status),
		Time:      w.At(now.Clock),
		Points:    []api.PointNow{},
		Rules:     []api.RuleNow{},
		Alarms:    []api.AlarmNow{},
		Setpoints: []api.SetpointNow{},
		Bypasses:  []api.Bypass{},
	}
	for _, p := range now.Points {
		v.Points = append(v.Points, pointView(p))
	}
	for _, r := range now.Rules {
		v.Rules = append(v.Rules, api.RuleNow{Name: r.Name, Title: r.Title, Kind: r.Kind, State: r.State, Because: r.Because, DelayUntil: w.When(r.Until)})
	}
	for _, a := range now.Alarms {
		v.Alarms = append(
			v.Alarms,
			api.AlarmNow{Name: a.Name, Title: a.Title, Priority: a.Priority, State: a.State, Since: w.When(a.Since), Because: a.Because,
				Advice: a.Advice, ShelvedUntil: w.When(a.Shelved), Suppressed: a.Suppressed, OutOfService: a.OutOfService},
		)
	}
	for _, x := range now.Settings {
		v.Setpoints = append(v.Setpoints, api.SetpointNow{Name: x.Name, Title: x.Title, Value: x.Value, Written: x.Written, Unit: x.Unit})
	}
	for _, b := range now.Bypasses {
		v.Bypasses = append(v.Bypasses, bypassView(w, b))
	}
	return v
}

func pointView(p live.PointNow) api.PointNow {
	v := api.PointNow{Name: p.Name, Title: p.Title, Kind: api.PointNowKind(p.Kind), Unit: views.Some(p.Unit), State: views.Some(p.State)}
	if !math.IsNaN(p.Value) && !math.IsInf(p.Value, 0) {
		v.Value = &p.Value
	}
	if p.Kind == "output" {
		mode := api.PointNowMode(p.Mode)
		v.Because, v.Mode, v.Written = &p.Reason, &mode, &p.Written
		v.NotWritten, v.Would, v.Found = views.Some(p.NotWritten), views.Some(p.Would), views.Some(p.Found)
		v.OnSeconds, v.Starts = &p.OnFor, &p.Starts
		if !math.IsNaN(p.Due) {
			v.DueSeconds = &p.Due
		}
		return v
	}
	if !math.IsNaN(p.Away) && p.Turns != "" {
		v.Turns, v.TurnsAt, v.Away = &p.Turns, &p.TurnsAt, &p.Away
	}
	quality := api.PointNowQuality(p.Quality)
	v.Quality, v.Reason, v.Pinned = &quality, &p.Reason, &p.Pinned
	if !math.IsNaN(p.Age) {
		v.AgeSeconds = &p.Age
	}
	return v
}

// bypassView returns one of the register.
func bypassView(w views.Wall, b live.BypassNow) api.Bypass {
	return api.Bypass{Name: b.Name, Kind: b.Kind, Value: b.Value, Who: b.Who, Why: b.Why, Since: w.When(b.Since), Until: w.When(b.Until)}
}
