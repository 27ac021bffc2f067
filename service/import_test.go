package service_test

import (
	"bytes"
	"io"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rectura/client"
	"rectura/core/recording"
	"rectura/core/recording/format"
	"rectura/core/recording/recordingtest"
	"rectura/examples/hatchery"
)

func text(s string) *string { return &s }

// A preview says how a file would be understood and keeps nothing; what was
// previewed is then kept the same way, and comes out again bit for bit.
func TestImport(t *testing.T) {
	_, api, _, _ := start(t, t.TempDir())
	pushHatchery(t, api)
	file := "Zeit;DO R1;mains;crane;blower\n02.03.2026 02:00:00;7,91;1;5;0\n02.03.2026 02:00:01;bad;1;;0\n02.03.2026 02:00:02;7,5;0;;0,5\n"
	mapping := []string{"DO R1=oxygen [mg/L]"}
	seen, err := api.PreviewRecordingWithBodyWithResponse(
		t.Context(),
		fennick,
		&client.PreviewRecordingParams{Name: "logger.csv", Zone: text("Europe/Dublin"), Map: &mapping},
		"application/octet-stream",
		strings.NewReader(file),
	)
	require.NoError(t, err)
	require.NotNil(t, seen.JSON200, "%s", seen.Body)
	p := seen.JSON200
	assert.Equal(
		t,
		client.Understood{
			Format:     "CSV, wide",
			Separator:  "semicolon",
			Decimal:    "comma",
			TimeColumn: "Zeit",
			TimeFormat: "DD.MM.YYYY hh:mm:ss",
			Zone:       "Europe/Dublin",
		},
		p.Understood,
	)
	assert.True(t, p.Whole)
	assert.Equal(t, "analog input, in mg/L", p.Columns[0].Point)
	assert.Equal(t, "contact", p.Columns[1].Point)
	assert.Empty(t, p.Columns[2].Point)
	assert.Contains(t, *p.Columns[3].Problem, "0.5 is neither 0 nor 1, and blower is a discrete output")
	assert.Equal(t, []string{"2026-03-02T02:00:01Z", "bad", "1", "", "0"}, p.Rows[1])
	listed, err := api.ListRecordingsWithResponse(t.Context(), fennick)
	require.NoError(t, err)
	assert.Empty(t, *listed.JSON200)

	kept, err := api.UploadRecordingWithBodyWithResponse(
		t.Context(),
		fennick,
		&client.UploadRecordingParams{Name: "logger.csv", Zone: text("Europe/Dublin"), Map: &mapping},
		"application/octet-stream",
		strings.NewReader(file),
	)
	require.NoError(t, err)
	require.NotNil(t, kept.JSON201, "%s", kept.Body)
	assert.Equal(t, "CSV, wide, separated by semicolon, decimal comma; times DD.MM.YYYY hh:mm:ss in Europe/Dublin", kept.JSON201.Understood)
	assert.Equal(t, "Europe/Dublin", kept.JSON201.Clock.Zone)

	// Out and in again, as every form that is written.
	trip, err := hatchery.Files.Open("recordings/pump-trip.csv")
	require.NoError(t, err)
	original := upload(t, api, "pump-trip.csv", trip)
	require.NotNil(t, original.JSON201)
	var first *recording.Recording
	for _, f := range []format.Format{format.CSV, format.JSONL, format.Parquet} {
		a, err := api.ExportRecordingWithResponse(
			t.Context(),
			fennick,
			original.JSON201.Id,
			&client.ExportRecordingParams{Format: client.ExportRecordingParamsFormat(f)},
		)
		require.NoError(t, err)
		require.Equal(t, http.StatusOK, a.StatusCode(), "%s", a.Body)
		r, err := format.Read("trip."+string(f), bytes.NewReader(a.Body), int64(len(a.Body)), recording.Options{}, nil)
		require.NoError(t, err)
		if first == nil {
			first = r
		}
		recordingtest.Same(t, first, r)
		again := upload(t, api, "again."+string(f), bytes.NewReader(a.Body))
		require.NotNil(t, again.JSON201, "%s", again.Body)
		assert.Equal(t, 9*7201, again.JSON201.Samples)
	}

	for _, c := range []struct {
		params client.UploadRecordingParams
		body   string
		want   string
	}{
		{client.UploadRecordingParams{Name: "a.csv", Zone: text("Erewhon")}, file, `"Erewhon" is no known time zone`},
		{client.UploadRecordingParams{Name: "a.csv", Map: &[]string{"x"}}, file, `"x" is not COLUMN=POINT`},
		{client.UploadRecordingParams{Name: "a.csv", Map: &[]string{"x=oxygen"}}, file, "a.csv: no column is named x, which was mapped to oxygen"},
		{client.UploadRecordingParams{Name: "a.txt", Pattern: text("(")}, file, "The pattern: error parsing regexp"},
		{client.UploadRecordingParams{Name: "a.txt", Pattern: text("(?P<x>5)"), Every: text("soon")}, file, `The time between lines: "soon" is not a duration`},
		{client.UploadRecordingParams{Name: "a.jsonl"}, "{", "a.jsonl:1:2: the object is not closed on its line; the file may have been cut off"},
		{client.UploadRecordingParams{Name: "a.parquet"}, "PAR1", "a.parquet: this is no whole Parquet file, or it has been cut off"},
	} {
		a, err := api.UploadRecordingWithBodyWithResponse(t.Context(), fennick, &c.params, "application/octet-stream", strings.NewReader(c.body))
		require.NoError(t, err)
		assert.Equal(t, http.StatusUnprocessableEntity, a.StatusCode(), c.want)
		assert.Contains(t, string(a.Body), strings.ReplaceAll(c.want, `"`, `\"`))
	}
	// A file in the middle of which the connection ends leaves nothing.
	_, err = api.UploadRecordingWithBodyWithResponse(
		t.Context(),
		fennick,
		&client.UploadRecordingParams{Name: "half.csv"},
		"application/octet-stream",
		io.MultiReader(strings.NewReader("time,a\n0,1\n"), broken{}),
	)
	require.Error(t, err)
	listed, err = api.ListRecordingsWithResponse(t.Context(), fennick)
	require.NoError(t, err)
	assert.Len(t, *listed.JSON200, 5)
}

// A broken reader fails.
type broken struct{}

func (broken) Read([]byte) (int, error) { return 0, io.ErrClosedPipe }

// Chains, curves, histograms, calibration and teaching, through the API.
func TestPoints(t *testing.T) {
	_, api, _, _ := start(t, t.TempDir())
	pushHatchery(t, api)
	require.NotNil(t, upload(t, api, "night.csv", night(t)).JSON201)
	detail, err := api.GetRevisionWithResponse(t.Context(), fennick, 1)
	require.NoError(t, err)
	points := map[string]client.Point{}
	for _, p := range detail.JSON200.Points {
		points[p.Name] = p
	}
	temperature := points["temperature"]
	assert.Equal(
		t,
		[]string{"counts", "ohm", "degC"},
		[]string{temperature.Chain[0].Unit, temperature.Chain[1].Unit, temperature.Chain[2].Unit},
	)
	assert.Equal(t, "curve pt1000 to degC", temperature.Chain[2].Stage)
	assert.Equal(t, "900..1200", *temperature.Chain[1].Healthy)
	assert.Equal(t, []string{"healthy 900..1200 ohm", "smooth average 10 samples"}, temperature.Clauses)
	assert.Equal(
		t,
		[]string{"standby_blower", "oxygen_lamps", "emergency_oxygen", "feeding", "oxygen_dosing", "oxygen_alarm", "hourly"},
		points["oxygen"].UsedBy,
	)
	assert.Equal(t, []string{"emergency_oxygen", "low_inflow"}, points["beacon"].UsedBy)

	scaled, err := api.GetScaleWithResponse(t.Context(), fennick, &client.GetScaleParams{Revision: 1, Input: "temperature", Value: "20 degC"})
	require.NoError(t, err)
	assert.InDelta(t, 1077.935, *scaled.JSON200.Stages[1].Value, 0.001)
	assert.Equal(t, client.ScaledQualityGood, scaled.JSON200.Quality)
	scaled, err = api.GetScaleWithResponse(t.Context(), fennick, &client.GetScaleParams{Revision: 1, Input: "temperature", Value: "10 ohm"})
	require.NoError(t, err)
	assert.Nil(t, scaled.JSON200.Stages[2].Value)
	assert.Equal(t, "10 ohm is below 900 ohm: short circuit", scaled.JSON200.Reason)
	for _, c := range []struct {
		input, value string
		status       int
	}{{"temperature", "10 V", 422}, {"temperature", "warm", 422}, {"mains", "1", 422}, {"nothing", "1", 404}} {
		a, err := api.GetScaleWithResponse(t.Context(), fennick, &client.GetScaleParams{Revision: 1, Input: c.input, Value: c.value})
		require.NoError(t, err)
		assert.Equal(t, c.status, a.StatusCode(), "%s", a.Body)
	}

	curve, err := api.GetCurveWithResponse(t.Context(), fennick, &client.GetCurveParams{Revision: 1, Input: "temperature"})
	require.NoError(t, err)
	assert.Equal(t, 9000.0, *curve.JSON200.HealthyLow)
	assert.Len(t, curve.JSON200.X, 121)
	histogram, err := api.GetHistogramWithResponse(
		t.Context(),
		fennick,
		&client.GetHistogramParams{Revision: 1, Recording: 1, Point: "inflow", Bins: 10},
	)
	require.NoError(t, err)
	all := 0
	for _, n := range histogram.JSON200.Counts {
		all += n
	}
	assert.Equal(t, 21601, all)

	// A calibration is shown, and kept only when that is asked for.
	request := client.CalibrationRequest{
		Revision: 1,
		Input:    "oxygen",
		Readings: []client.CalibrationReading{{Measured: "0.12 mg/L", Reference: "0 mg/L"}, {Measured: "9.4 mg/L", Reference: "9.1 mg/L"}},
		Note:     text("a Winkler\ntitration"),
	}
	c, err := api.CalibrateWithResponse(t.Context(), fennick, request)
	require.NoError(t, err)
	require.NotNil(t, c.JSON200, "%s", c.Body)
	assert.Nil(t, c.JSON200.Revision)
	assert.InDelta(t, 1.5, *c.JSON200.Points[1].AsFoundPercent, 1e-9)
	yes := true
	request.Keep = &yes
	c, err = api.CalibrateWithResponse(t.Context(), fennick, request)
	require.NoError(t, err)
	require.Equal(t, int64(2), *c.JSON200.Revision)
	before, err := api.ReplayWithResponse(t.Context(), fennick, client.ReplayRequest{Revision: 1, Recording: 1})
	require.NoError(t, err)
	after, err := api.ReplayWithResponse(t.Context(), fennick, client.ReplayRequest{Revision: 2, Recording: 1})
	require.NoError(t, err)
	tripped := func(r *client.Replay) string {
		for _, tr := range r.Transitions {
			if tr.Name == "standby_blower" && tr.To == "on" {
				return tr.Time
			}
		}
		return ""
	}
	assert.Equal(t, "02:33:37.000", tripped(before.JSON200))
	assert.NotEmpty(t, tripped(after.JSON200))
	assert.Less(t, tripped(after.JSON200), "02:33:00", "the corrected oxygen is lower, and trips earlier")
	request.Readings[0].Measured = "9.3 mg/L"
	c, err = api.CalibrateWithResponse(t.Context(), fennick, request)
	require.NoError(t, err)
	assert.Contains(t, string(c.Body), "too close together to define a line")

	// So is a lesson.
	lesson := client.LessonRequest{
		Revision:  2,
		Recording: 1,
		Input:     "inflow",
		Normal:    client.TimeWindow{From: 600, To: 15_000},
		Trouble:   client.TimeWindow{From: 15_600, To: 17_400},
	}
	l, err := api.TeachWithResponse(t.Context(), fennick, lesson)
	require.NoError(t, err)
	require.NotNil(t, l.JSON200, "%s", l.Body)
	assert.True(t, l.JSON200.Separable)
	assert.Contains(t, l.JSON200.Text, "rule inflow_trouble\n  on when inflow < inflow_trouble_point hysteresis 2 L/s for 10 s\n")
	lesson.Rule, lesson.Output = text("pump_stands"), text("beacon")
	l, err = api.TeachWithResponse(t.Context(), fennick, lesson)
	require.NoError(t, err)
	require.Equal(t, int64(3), *l.JSON200.Revision)
	l, err = api.TeachWithResponse(t.Context(), fennick, lesson)
	require.NoError(t, err)
	assert.Contains(t, problemOf(t, http.StatusConflict, l.Body), "Somebody has kept a newer revision since you began from revision 2.")
	lesson.Revision, lesson.Rule = 3, text("low_inflow")
	l, err = api.TeachWithResponse(t.Context(), fennick, lesson)
	require.NoError(t, err)
	assert.Contains(t, string(l.Body), "low_inflow is already the name of the rule")
	lesson.Trouble = lesson.Normal
	l, err = api.TeachWithResponse(t.Context(), fennick, lesson)
	require.NoError(t, err)
	assert.False(t, l.JSON200.Separable)
}
