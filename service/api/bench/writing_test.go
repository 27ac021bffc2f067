//go:build counted

package bench_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io/fs"
	"log/slog"
	"math"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"rectura/core/recording/csv"
	"rectura/core/sheet"
	"rectura/core/sheet/visits"
	"rectura/examples/hatchery"
	"rectura/examples/patterns"
	"rectura/service/api/bench"
	"rectura/service/store"
)

// sheets are all sheets of the examples and the docs.
func sheets(t require.TestingT) []string {
	var all []string
	err := fs.WalkDir(hatchery.Files, ".", func(path string, _ fs.DirEntry, err error) error {
		if err == nil && strings.HasSuffix(path, ".rct") {
			var text []byte
			text, err = fs.ReadFile(hatchery.Files, path)
			all = append(all, string(text))
		}
		return err
	})
	require.NoError(t, err)
	building, err := patterns.All()
	require.NoError(t, err)
	for _, p := range building {
		all = append(all, p.Sheet)
	}
	pages, err := filepath.Glob("../../../docs/*.md")
	require.NoError(t, err)
	for _, page := range pages {
		text, err := os.ReadFile(page)
		require.NoError(t, err)
		for i, block := range strings.Split(string(text), "```") {
			if _, body, fenced := strings.Cut(block, "\n"); i%2 == 1 && fenced && strings.Contains(body, "\n  ") {
				all = append(all, body)
			}
		}
	}
	return all
}

// changed is a text as it may stand while somebody writes: cut off somewhere, or
// with one of its words taken out, doubled, changed over with the next or put in
// another's place.
func changed(text string, at, how, other uint16) string {
	words := strings.SplitAfter(text, " ")
	i, k := int(at)%len(words), int(other)%len(words)
	switch how % 6 {
	case 0:
		return text[:int(at)*(len(text)+1)/(math.MaxUint16+1)]
	case 1:
		words[i] = ""
	case 2:
		words[i] += words[i]
	case 3:
		words[i], words[k] = words[k], words[i]
	case 4:
		words[i] = words[k]
	default:
		words[i] = []string{"(", ")", "\n", "\n  ", "not ", "for ", "-", "\"", "9", "derived d = d + d\n"}[k%10] + words[i]
	}
	return strings.Join(words, "")
}

// mostVisits is how many nodes all that the console asks of a text may visit, for
// each of its bytes and on top of them.
const (
	mostVisits = 60
	fewVisits  = 20_000 // of the building block, the recording's chart and the like
)

// Whatever half of a job is sent to whatever the console asks while somebody
// writes: no panic, no failure, and work within a multiple of the text.
func FuzzWriting(f *testing.F) {
	texts := sheets(f)
	require.Greater(f, len(texts), 60)
	for i := range texts {
		f.Add(uint16(i), uint16(math.MaxUint16), uint16(0), uint16(0))
		f.Add(uint16(i), uint16(i*997), uint16(i), uint16(i*31))
	}
	st, err := store.Open(f.Context(), filepath.Join(f.TempDir(), "bench.db"), store.Options{})
	require.NoError(f, err)
	f.Cleanup(func() { require.NoError(f, st.Close()) })
	base, err := sheet.ReadSources(hatchery.Files)
	require.NoError(f, err)
	j, _, err := st.MakeJob(f.Context(), "hatchery", time.Unix(0, 0))
	require.NoError(f, err)
	_, _, err = j.AddRevision(f.Context(), store.Revision{Title: "base"}, base, nil, 0)
	require.NoError(f, err)
	r, err := csv.Reader{}.Read(strings.NewReader("time,oxygen [mg/L],mains\n0,8,1\n60,4,1\n120,8,0\n"))
	require.NoError(f, err)
	_, err = j.AddRecording(f.Context(), "r.csv", r, nil, time.Unix(0, 0))
	require.NoError(f, err)
	handler, err := bench.New(
		bench.Config{
			Store:       st,
			Log:         slog.New(slog.DiscardHandler),
			UploadLimit: 1 << 20,
			Now:         time.Now,
			Memory:      1 << 28,
			WorkLimit:   time.Minute,
			Closing:     f.Context(),
			Damaged:     func() []string { return nil },
		},
	)
	require.NoError(f, err)
	client := 0
	f.Fuzz(func(t *testing.T, which, at, how, other uint16) {
		text := changed(texts[int(which)%len(texts)], at, how, other)
		job := []map[string]any{{"name": "a.rct", "text": text}}
		visits.Take()
		for path, body := range map[string]map[string]any{
			"/checks":    {"sheets": job, "base": 1, "format": true, "play": map[string]any{"recording": 1, "rule": "standby_blower", "pixels": 50}},
			"/tries":     {"sheets": job, "rule": "standby_blower", "values": map[string]string{"oxygen": "5 mg/L"}},
			"/renames":   {"sheets": job, "from": "oxygen", "to": "other"},
			"/merges":    {"sheets": job, "base": 1},
			"/adoptions": {"sheets": job, "pattern": "high-low-alarm"},
			"/revisions": {"sheets": job, "base": 999},
		} {
			data, err := json.Marshal(body)
			require.NoError(t, err)
			q := httptest.NewRequestWithContext(t.Context(), http.MethodPost, "http://h/api/jobs/hatchery"+path, bytes.NewReader(data))
			q.Header.Set("Content-Type", "application/json")
			client++ // the limit by address is not what is tested
			q.RemoteAddr = fmt.Sprintf("127.%d.%d.%d:1", client>>16&0xff, client>>8&0xff, client&0xff)
			answer := httptest.NewRecorder()
			handler.ServeHTTP(answer, q)
			require.NotEqual(t, http.StatusTooManyRequests, answer.Code)
			if answer.Code >= 500 {
				t.Fatalf("%s: %d %s\n%s", path, answer.Code, answer.Body, text)
			}
		}
		if n := visits.Take(); n > mostVisits*int64(len(text))+fewVisits {
			t.Fatalf("%d nodes visited for %d bytes:\n%s", n, len(text), text)
		}
	})
}

// BenchmarkWriting tells how long the console waits for an answer while somebody
// writes, at the 99th percentile, over all texts and changes of them.
func BenchmarkWriting(b *testing.B) {
	texts := sheets(b)
	st, err := store.Open(b.Context(), filepath.Join(b.TempDir(), "bench.db"), store.Options{})
	require.NoError(b, err)
	b.Cleanup(func() { require.NoError(b, st.Close()) })
	_, _, err = st.MakeJob(b.Context(), "hatchery", time.Unix(0, 0))
	require.NoError(b, err)
	handler, err := bench.New(
		bench.Config{
			Store:       st,
			Log:         slog.New(slog.DiscardHandler),
			UploadLimit: 1 << 20,
			Now:         time.Now,
			Memory:      1 << 28,
			WorkLimit:   time.Minute,
			Closing:     b.Context(),
			Damaged:     func() []string { return nil },
		},
	)
	require.NoError(b, err)
	var took []time.Duration
	for i := 0; b.Loop(); i++ {
		data, err := json.Marshal(
			map[string]any{
				"sheets": []map[string]any{{"name": "a.rct", "text": changed(texts[i%len(texts)], uint16(i*7919), uint16(i), uint16(i*31))}},
				"format": true,
			},
		)
		require.NoError(b, err)
		q := httptest.NewRequestWithContext(b.Context(), http.MethodPost, "http://h/api/jobs/hatchery/checks", bytes.NewReader(data))
		q.Header.Set("Content-Type", "application/json")
		q.RemoteAddr = fmt.Sprintf("127.%d.%d.%d:1", i>>16&0xff, i>>8&0xff, i&0xff)
		began := time.Now()
		handler.ServeHTTP(httptest.NewRecorder(), q)
		took = append(took, time.Since(began))
	}
	slices.Sort(took)
	b.ReportMetric(float64(took[len(took)*99/100].Microseconds())/1000, "ms-p99")
}
