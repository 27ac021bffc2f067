//go:build e2e

package e2e

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"rectura/examples/hatchery"
)

// watch counts frames, and keeps the longest task that kept the page from drawing, in ms.
const watch = `(() => {
	window.frames_ = 0; window.longest = 0;
	const count = () => { window.frames_++; requestAnimationFrame(count); };
	requestAnimationFrame(count);
	new PerformanceObserver((list) => { for (const e of list.getEntries()) window.longest = Math.max(window.longest, e.duration); }).observe({ type: 'longtask', buffered: true });
	return true;
})()`

// BenchmarkPage opens the page Bench with the demo's night played over and over, thirty days and 20.7
// million readings, and gives after how many seconds it is complete: cold, opened anew, and with another
// value; and the longest task.
func BenchmarkPage(b *testing.B) {
	ctx := browser(b)
	address := startDemo(b)
	address.Path, address.RawQuery = "/", ""
	night, err := hatchery.Files.ReadFile("recordings/night.csv")
	require.NoError(b, err)
	id := upload(b, address, "hatchery", "month.csv", repeat(night, 120))
	address.Path, address.RawQuery = "/hatchery/bench", fmt.Sprint("recording=", id)
	for b.Loop() {
		began := time.Now()
		run(b, ctx, chromedp.Navigate(address.String()), poll(watch), drawn())
		b.ReportMetric(time.Since(began).Seconds(), "s-cold")
		began = time.Now()
		run(b, ctx, chromedp.Reload(), poll(watch), drawn())
		b.ReportMetric(time.Since(began).Seconds(), "s-warm")
		run(b, ctx, chromedp.Click(`//button[text()="Other values…"]`), chromedp.WaitVisible(chromedp.CSS(`input[name=oxygen_low]`)),
			chromedp.SetValue(chromedp.CSS(`input[name=oxygen_low]`), "6.1 mg/L"))
		began = time.Now()
		run(b, ctx, chromedp.Click(`//button[text()="Play with these"]`), chromedp.WaitVisible(`//*[text()="other values than written"]`),
			chromedp.WaitNotPresent(`//button[text()="Playing…"]`), drawn())
		b.ReportMetric(time.Since(began).Seconds(), "s-another-value")
		b.ReportMetric(value[float64](b, ctx, `window.longest`), "ms-longest-task")
	}
	b.ReportMetric(0, "ns/op")
}

// BenchmarkHover moves the mouse over a chart of 22,000 transitions and gives the frames that are
// drawn in a second meanwhile, and the longest task. 30 are wanted, and less than 100 ms.
func BenchmarkHover(b *testing.B) {
	const turns = 5500
	ctx := browser(b)
	address := startDemo(b)
	address.Path, address.RawQuery = "/", ""
	ask(b, http.MethodPut, address.JoinPath("/api/jobs/sluice"), "", nil)
	sheet, err := json.Marshal(`job "Sluice"
input gate_flow
  unit L/s
rule gate_high
  on when gate_flow > 60 L/s hysteresis 10 L/s
  call gate_lamp
rule gate_low
  on when gate_flow < 30 L/s hysteresis 10 L/s
  call pump
output gate_lamp
output pump
`)
	require.NoError(b, err)
	ask(b, http.MethodPost, address.JoinPath("/api/jobs/sluice/revisions"), "application/json",
		strings.NewReader(`{"sheets":[{"name":"a.rct","text":`+string(sheet)+`}]}`))
	var text bytes.Buffer
	text.WriteString("time,gate_flow\n")
	for i := range turns {
		fmt.Fprintf(&text, "%d,%d\n", i*60, 20+i%2*60)
	}
	id := upload(b, address, "sluice", "chatter.csv", &text)
	address.Path, address.RawQuery = "/sluice/bench", fmt.Sprint("recording=", id)
	run(b, ctx, chromedp.Navigate(address.String()), poll(watch), chromedp.WaitVisible(chromedp.CSS(`[data-input=gate_flow] canvas`)),
		chromedp.WaitVisible(chromedp.CSS(`[data-change="0"]`)))
	require.GreaterOrEqual(
		b,
		value[float64](b, ctx, `+document.querySelector('header small').textContent.match(/(\d+) changes/)[1]`),
		21_000.0,
	)
	plots, err := chromedp.Run(
		ctx,
		chromedp.Evaluate[[]float64](
			`(() => { const r = document.querySelector('[data-testid=plots]').getBoundingClientRect(); return [r.left, r.top, r.width, r.height]; })()`,
		),
	)
	require.NoError(b, err)
	for b.Loop() {
		run(b, ctx, poll(`(() => { window.frames_ = 0; window.longest = 0; return true; })()`))
		began := time.Now()
		for i := range 300 {
			x, y := plots[0]+plots[2]*float64(i)/300, plots[1]+plots[3]*float64(i%20)/20
			run(b, ctx, move(x, y))
		}
		took := time.Since(began).Seconds()
		b.ReportMetric(value[float64](b, ctx, `window.frames_`)/took, "frames/s")
		b.ReportMetric(300/took, "moves/s")
		b.ReportMetric(value[float64](b, ctx, `window.longest`), "ms-longest-task")
	}
	b.ReportMetric(0, "ns/op")
}

func move(x, y float64) chromedp.Action[chromedp.Void] {
	return func(ctx context.Context, target *chromedp.Target) (chromedp.Void, error) {
		_, err := cdp.Call(ctx, target, input.DispatchMouseEvent, input.DispatchMouseEventParams{Type: "mouseMoved", X: x, Y: y})
		return chromedp.Void{}, err
	}
}

// repeat is a table of some times over, one after another at 1 Hz.
func repeat(table []byte, times int) io.Reader {
	var rows [][]byte
	in := bufio.NewScanner(bytes.NewReader(table))
	for in.Scan() {
		rows = append(rows, bytes.Clone(in.Bytes()))
	}
	var out bytes.Buffer
	out.Write(rows[0])
	t := time.Date(2026, 3, 1, 0, 0, 0, 0, time.UTC)
	for range times {
		for _, row := range rows[1:] {
			out.WriteString("\n" + t.Format(time.RFC3339))
			out.Write(row[bytes.IndexByte(row, ','):])
			t = t.Add(time.Second)
		}
	}
	return &out
}

// upload keeps a recording and returns its number.
func upload(b *testing.B, address *url.URL, job, name string, file io.Reader) int {
	b.Helper()
	u := address.JoinPath("/api/jobs", job, "recordings")
	u.RawQuery = "name=" + name
	var kept struct {
		ID int `json:"id"`
	}
	require.NoError(b, json.Unmarshal(ask(b, http.MethodPost, u, "application/octet-stream", file), &kept))
	return kept.ID
}

func ask(b *testing.B, method string, u *url.URL, kind string, body io.Reader) []byte {
	b.Helper()
	q, err := http.NewRequest(method, u.String(), body)
	require.NoError(b, err)
	if kind != "" {
		q.Header.Set("Content-Type", kind)
	}
	r, err := http.DefaultClient.Do(q)
	require.NoError(b, err)
	answer, err := io.ReadAll(r.Body)
	require.NoError(b, err)
	require.NoError(b, r.Body.Close())
	require.Less(b, r.StatusCode, 300, "%s %s: %s", method, u, answer)
	return answer
}
