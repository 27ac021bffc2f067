package service_test

import (
	"bytes"
	"context"
	"encoding/json"
	"io"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rectura/client"
	"rectura/core/sheet"
	"rectura/examples/hatchery"
	"rectura/service"
)

// A buffer that may be written and read at once.
type buffer struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (b *buffer) Write(p []byte) (int, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.b.Write(p)
}

func (b *buffer) String() string {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.b.String()
}

// empty forgets what was written, so that it takes no memory.
func (b *buffer) empty() {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.b = bytes.Buffer{}
}

// start runs a service on a free port until the test ends.
func start(t *testing.T, data string) (url string, api *client.ClientWithResponses, log *buffer, stop func()) {
	t.Helper()
	url, api, log, stop = serve(t, data)
	made, err := api.PutJobWithResponse(t.Context(), fennick)
	require.NoError(t, err)
	require.Contains(t, []int{http.StatusOK, http.StatusCreated}, made.StatusCode())
	return url, api, log, stop
}

// serve starts a service on a data folder as it is.
func serve(t *testing.T, data string) (url string, api *client.ClientWithResponses, log *buffer, stop func()) {
	t.Helper()
	log = &buffer{}
	s, err := service.Start(
		t.Context(),
		service.Config{Data: data, Listen: "127.0.0.1:0", UploadLimit: 2 << 20, Memory: testMemory, Version: "test",
			Console: fstest.MapFS{
				"index.html":     {Data: []byte("<title>console</title>")},
				"assets/a.js":    {Data: []byte("1")},
				"assets/a.js.gz": {Data: []byte("packed")},
			}, Log: slog.New(slog.NewTextHandler(log, nil))},
	)
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() { done <- s.Run(ctx) }()
	stop = sync.OnceFunc(func() {
		cancel()
		assert.NoError(t, <-done)
	})
	t.Cleanup(stop)
	api, err = client.NewClientWithResponses(s.URL() + "/api")
	require.NoError(t, err)
	return s.URL(), api, log, stop
}

// testMemory is what the service may take in these tests; a quarter of it is for what is kept.
const testMemory = 512 << 20

// fennick is the short name of the job of these tests.
const fennick = "hatchery"

// at is the path of an operation: below the job's, unless it is about none.
func at(path string) string {
	for _, top := range []string{"/health", "/ready", "/version", "/bench", "/patterns", "/language", "/jobs", "/nothing"} {
		if strings.HasPrefix(path, top) {
			return "/api" + path
		}
	}
	return "/api/jobs/" + fennick + path
}

func pushHatchery(t *testing.T, api *client.ClientWithResponses) {
	t.Helper()
	sources, err := sheet.ReadSources(hatchery.Files)
	require.NoError(t, err)
	body := client.NewRevision{}
	for _, s := range sources {
		body.Sheets = append(body.Sheets, client.Sheet{Name: s.Name, Text: string(s.Text)})
	}
	a, err := api.PushRevisionWithResponse(t.Context(), fennick, body)
	require.NoError(t, err)
	require.NotNil(t, a.JSON201, "%s", a.Body)
}

func upload(t *testing.T, api *client.ClientWithResponses, name string, text io.Reader) *client.UploadRecordingResponse {
	t.Helper()
	a, err := api.UploadRecordingWithBodyWithResponse(
		t.Context(),
		fennick,
		&client.UploadRecordingParams{Name: name},
		"application/octet-stream",
		text,
	)
	require.NoError(t, err)
	return a
}

func night(t *testing.T) io.Reader {
	t.Helper()
	f, err := hatchery.Files.Open("recordings/night.csv")
	require.NoError(t, err)
	return f
}

// The whole way: push, upload, play, look; and all of it again after a restart.
func TestRoundTrip(t *testing.T) {
	data := t.TempDir()
	_, api, _, stop := start(t, data)
	pushHatchery(t, api)
	kept := upload(t, api, "night.csv", night(t))
	require.NotNil(t, kept.JSON201, "%s", kept.Body)
	assert.Equal(t, 8*21601, kept.JSON201.Samples)
	stop()

	_, api, _, _ = start(t, data)
	played, err := api.ReplayWithResponse(t.Context(), fennick, client.ReplayRequest{Revision: 1, Recording: 1})
	require.NoError(t, err)
	require.NotNil(t, played.JSON200, "%s", played.Body)
	r := played.JSON200
	assert.Equal(t, "Fennick trout hatchery", r.Job)
	assert.Equal(t, r.TransitionsTotal, len(r.Transitions))
	assert.Empty(t, r.Warnings)
	var blower client.Transition
	for _, tr := range r.Transitions {
		if tr.Name == "blower" && tr.To == "on" {
			blower = tr
		}
	}
	assert.Equal(t, 16417.0, blower.T)
	assert.Equal(t, "02:33:37.000", blower.Time)
	assert.Equal(t, "called by standby_blower", blower.Because)
	// From the output one can walk to the reading.
	require.NotNil(t, blower.Reasons[0].Transition)
	i := slices.IndexFunc(r.Transitions, func(tr client.Transition) bool { return tr.Number == *blower.Reasons[0].Transition })
	require.GreaterOrEqual(t, i, 0)
	assert.Equal(t, "standby_blower", r.Transitions[i].Name)
	rule := r.Transitions[i].Reasons[0]
	assert.Equal(t, "oxygen 5.94 mg/L < oxygen_low 6 mg/L", rule.Text)
	assert.Equal(t, "for 45 s, since 02:32:52", *rule.Since)
	stages := *rule.Stages
	assert.Equal(t, []string{"counts", "mA", "mg/L"}, []string{stages[0].Unit, stages[1].Unit, stages[2].Unit})

	// A window's series has the smallest and the largest value of the whole one.
	whole, err := api.GetSeriesWithResponse(
		t.Context(),
		fennick,
		&client.GetSeriesParams{Revision: 1, Recording: 1, Point: "oxygen", Pixels: 1},
	)
	require.NoError(t, err)
	fine, err := api.GetSeriesWithResponse(
		t.Context(),
		fennick,
		&client.GetSeriesParams{Revision: 1, Recording: 1, Point: "oxygen", Pixels: 1000},
	)
	require.NoError(t, err)
	low := *fine.JSON200.Min[0]
	for _, v := range fine.JSON200.Min {
		low = min(low, *v)
	}
	assert.Equal(t, *whole.JSON200.Min[0], low)
	assert.Less(t, low, 5.5)
	assert.Equal(t, "mg/L", whole.JSON200.Unit)

	values, err := api.GetValuesWithResponse(t.Context(), fennick, &client.GetValuesParams{Revision: 1, Recording: 1, T: blower.T})
	require.NoError(t, err)
	assert.InDelta(t, 5.94, *(*values.JSON200)[0].Value, 0.001)

	// An analog output holds its value between changes, in every pixel, and is
	// another one with another setpoint.
	hand := client.GetSeriesParams{Revision: 1, Recording: 1, Point: "dosing", Pixels: 720}
	level, err := api.GetSeriesWithResponse(t.Context(), fennick, &hand)
	require.NoError(t, err)
	require.Len(t, level.JSON200.Min, 720)
	assert.Equal(t, []float64{100, 100}, []float64{*level.JSON200.Min[540], *level.JSON200.Max[540]}, "held since 01:42")
	hand.Set = &[]string{"oxygen_target=6.5 mg/L"}
	otherwise, err := api.GetSeriesWithResponse(t.Context(), fennick, &hand)
	require.NoError(t, err)
	assert.Less(t, *otherwise.JSON200.Max[200], *level.JSON200.Min[200])
	hand.Set = &[]string{"oxygen_target"}
	refused, err := api.GetSeriesWithResponse(t.Context(), fennick, &hand)
	require.NoError(t, err)
	assert.Equal(t, "\"oxygen_target\" is not NAME=VALUE, such as oxygen_low=5.5mg/L", problemOf(t, 422, refused.Body))

	// Another setpoint, part of the recording, as a looped controller.
	four, scan, from := map[string]string{"oxygen_low": "4.2 mg/L"}, "500 ms", "02:00"
	other, err := api.ReplayWithResponse(
		t.Context(),
		fennick,
		client.ReplayRequest{Revision: 1, Recording: 1, Set: &four, Scan: &scan, From: &from},
	)
	require.NoError(t, err)
	for _, s := range other.JSON200.Summary {
		if s.Name == "standby_blower" {
			assert.Zero(t, *s.Starts)
		}
		if s.Name == "dosing" {
			assert.Nil(t, s.Starts)
			assert.Equal(t, []float64{0, 100}, []float64{*s.Min, *s.Max})
		}
	}
	assert.Equal(t, 7200.0, other.JSON200.Seconds)

	detail, err := api.GetRevisionWithResponse(t.Context(), fennick, 1)
	require.NoError(t, err)
	assert.Len(t, detail.JSON200.Rules, 6+5, "bands, a follow, a loop, an alarm and a message too")
	assert.Len(t, detail.JSON200.Points, 19)
	assert.Empty(t, detail.JSON200.Findings)
}

// problemOf is what the service refused with.
func problemOf(t *testing.T, status int, body []byte) string {
	t.Helper()
	var p client.Problem
	require.NoError(t, json.Unmarshal(body, &p), "%s", body)
	require.Equal(t, status, p.Status, "%s", body)
	require.NotEmpty(t, p.Title)
	return *p.Detail
}

func TestRefusals(t *testing.T) {
	url, api, log, _ := start(t, t.TempDir())
	wrong, err := api.PushRevisionWithResponse(
		t.Context(),
		fennick,
		client.NewRevision{Sheets: []client.Sheet{{Name: "a.rct", Text: "job \"x\"\nrule r\n  on when x\n"}}},
	)
	require.NoError(t, err)
	assert.Equal(t, "The job has errors and was not kept; mend them and push again.", problemOf(t, 422, wrong.Body))
	assert.Equal(t, "application/problem+json", wrong.HTTPResponse.Header.Get("Content-Type"))
	require.Len(t, *wrong.ApplicationproblemJSONDefault.Findings, 2)
	assert.Equal(
		t,
		client.Finding{
			File:     "a.rct",
			Line:     3,
			Column:   11,
			Severity: "error",
			Code:     "unknown-name",
			Text:     "nothing is named x; declare it, or correct the name",
		},
		(*wrong.ApplicationproblemJSONDefault.Findings)[1],
	)
	listed, err := api.ListRevisionsWithResponse(t.Context(), fennick)
	require.NoError(t, err)
	assert.Empty(t, *listed.JSON200, "nothing was kept")

	pushHatchery(t, api)
	for name, want := range map[string]struct {
		status int
		detail string
		text   string
	}{
		"bad.csv":                {422, `bad.csv:2:3: a: "x" is no reading; a cell holds a number, a word such as on, off or bad, or nothing`, "time,a\n1,x\n"},
		"empty.csv":              {422, "empty.csv: the file is empty; a recording begins with a row of column names", ""},
		"large.csv":              {413, "What was sent is larger than this service takes; nothing of it was kept.", "time,a\n" + strings.Repeat("1,1\n", 1<<20)},
		"binary":                 {422, "binary: this is not a text file; a recording is read as CSV", "\x00\x01\x02"},
		strings.Repeat("n", 201): {422, "The query name: maximum string length is 200.", "time,a\n1,1\n"},
	} {
		assert.Equal(t, want.detail, problemOf(t, want.status, upload(t, api, name, strings.NewReader(want.text)).Body))
	}
	recordings, err := api.ListRecordingsWithResponse(t.Context(), fennick)
	require.NoError(t, err)
	assert.Empty(t, *recordings.JSON200, "nothing was kept")
	require.NotNil(t, upload(t, api, "a.csv", strings.NewReader("time,hatch_open\n0,0.5\n")).JSON201)
	assert.Equal(
		t,
		"keeping recording a.csv: exists already",
		problemOf(t, 409, upload(t, api, "a.csv", strings.NewReader("time,a\n0,1\n")).Body),
	)

	for body, want := range map[string]struct {
		status int
		detail string
	}{
		`{"revision":9,"recording":1}`:                          {404, "revision 9: not found"},
		`{"revision":1,"recording":9}`:                          {404, "recording 9: not found"},
		`{"revision":1,"recording":1}`:                          {422, "column hatch_open, at +0 s: 0.5 is neither 0 nor 1, and hatch_open is a discrete input"},
		`{"revision":1,"recording":1,"scan":"fast"}`:            {422, `scan: "fast" is not a duration; write one such as 500 ms or 1 h 30 min`},
		`{"revision":1,"recording":1,"set":{"oxygen_low":"x"}}`: {422, `oxygen_low: "x" does not begin with a number; write a value such as 12 mA`},
		`{"revision":1,"recording":1,"from":"noon"}`:            {422, `"noon" is no time of this recording, which has elapsed seconds; write an offset from its start, such as "+75 s"`},
		`{"revision":`: {400, "The body is no JSON: unexpected end of JSON input."},
		`{"revision":1,"note":"` + strings.Repeat("x", 9<<20) + `"}`: {413, "What was sent is larger than this service takes; nothing of it was kept."},
	} {
		r, err := http.Post(url+at("/replays"), "application/json", strings.NewReader(body))
		require.NoError(t, err)
		answer, err := io.ReadAll(r.Body)
		require.NoError(t, err)
		require.NoError(t, r.Body.Close())
		assert.Equal(t, want.detail, problemOf(t, want.status, answer), "%.60s", body)
	}
	assert.NotContains(t, log.String(), "level=ERROR", "a refusal is no failure of the service")
}

// A page of another site cannot reach the service, whatever it makes the
// browser send.
func TestForeignPages(t *testing.T) {
	url, _, _, _ := start(t, t.TempDir())
	own := strings.TrimPrefix(url, "http://")
	for _, c := range []struct {
		host, origin, site string
		status             int
	}{
		{own, "", "", 200},
		{strings.Replace(own, "127.0.0.1", "localhost", 1), "", "", 200},
		{own, "http://" + own, "same-origin", 200},
		{"hatchery.example", "", "", 403},
		{"127.0.0.1:1", "", "", 403},
		{own, "http://hatchery.example", "", 403},
		{own, "http://localhost:1", "", 403},
		{own, "null", "", 403},
		{own, "", "cross-site", 403},
	} {
		for _, path := range []string{"/api/health", "/api/ready", "/bench"} {
			q, err := http.NewRequestWithContext(t.Context(), http.MethodGet, url+path, nil)
			require.NoError(t, err)
			q.Host = c.host
			if c.origin != "" {
				q.Header.Set("Origin", c.origin)
			}
			if c.site != "" {
				q.Header.Set("Sec-Fetch-Site", c.site)
			}
			r, err := http.DefaultClient.Do(q)
			require.NoError(t, err)
			require.NoError(t, r.Body.Close())
			assert.Equal(t, c.status, r.StatusCode, "%+v %s", c, path)
		}
	}
}

func TestPagesAndHeaders(t *testing.T) {
	url, _, _, _ := start(t, t.TempDir())
	for path, want := range map[string]string{"/": "<title>console</title>", "/bench": "<title>console</title>", "/api/nothing": "There is no /api/nothing here."} {
		r, err := http.Get(url + path)
		require.NoError(t, err)
		body, err := io.ReadAll(r.Body)
		require.NoError(t, err)
		require.NoError(t, r.Body.Close())
		assert.Contains(t, string(body), want)
		assert.Contains(t, r.Header.Get("Content-Security-Policy"), "default-src 'self'")
	}
	for takes, want := range map[string]string{"br, gzip;q=0.5": "packed", "gzip;q=0": "1", "": "1", "gzippy": "1"} {
		q, err := http.NewRequest(http.MethodGet, url+"/assets/a.js", nil)
		require.NoError(t, err)
		q.Header.Set("Accept-Encoding", takes)
		r, err := http.DefaultTransport.RoundTrip(q)
		require.NoError(t, err)
		body, err := io.ReadAll(r.Body)
		require.NoError(t, err)
		require.NoError(t, r.Body.Close())
		assert.Equal(t, want, string(body), takes)
		assert.Equal(t, want == "packed", r.Header.Get("Content-Encoding") == "gzip", takes)
		assert.Equal(t, "text/javascript; charset=utf-8", r.Header.Get("Content-Type"))
		assert.Equal(t, "Accept-Encoding", r.Header.Get("Vary"))
	}
}

func TestStartRefuses(t *testing.T) {
	for listen, want := range map[string]string{
		"0.0.0.0:0":      "can be reached from other machines; the service listens on loopback only",
		":0":             "can be reached from other machines",
		"192.0.2.1:8470": "can be reached from other machines",
		"8470":           "is not HOST:PORT",
	} {
		_, err := service.Start(t.Context(), service.Config{Data: t.TempDir(), Listen: listen, Log: slog.New(slog.DiscardHandler)})
		assert.ErrorContains(t, err, want, listen)
	}
	file := filepath.Join(t.TempDir(), "file")
	require.NoError(t, os.WriteFile(file, nil, 0o600))
	_, err := service.Start(t.Context(), service.Config{Data: file, Listen: "127.0.0.1:0", Log: slog.New(slog.DiscardHandler)})
	assert.ErrorContains(t, err, "making the data folder")
}
