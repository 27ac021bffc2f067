//go:build e2e

// Package e2e drives the console in headless Chromium, against a service that
// was started with the demo's data as a user would start it.
package e2e

import (
	"context"
	"flag"
	"io"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/input"
	cdplog "github.com/chromedp/cdproto/log"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rectura/cli"
	"rectura/console"
)

// shots is the folder into which pictures of the pages are written; none if
// it is empty.
var shots = flag.String("shots", "", "write pictures of the pages into this folder")

// startDemo runs `rectura demo` on a free port and returns the address that it
// prints.
func startDemo(t testing.TB) *url.URL {
	t.Helper()
	ctx, stop := context.WithCancel(context.Background())
	out, in := io.Pipe()
	ended := make(chan int, 1)
	go func() {
		ended <- cli.Run(ctx, []string{"demo", "--listen", "127.0.0.1:0"}, in, io.Discard)
		in.Close()
	}()
	t.Cleanup(func() {
		stop()
		go func() { _, _ = io.Copy(io.Discard, out) }()
		assert.Equal(t, 0, <-ended)
	})
	var printed []byte
	buf := make([]byte, 1024)
	address := regexp.MustCompile(`http://\S+`)
	for !regexp.MustCompile(`Ctrl\+C`).Match(printed) {
		n, err := out.Read(buf)
		require.NoError(t, err, "%s", printed)
		printed = append(printed, buf[:n]...)
	}
	u, err := url.Parse(string(address.Find(printed)))
	require.NoError(t, err)
	return u
}

// browser starts Chromium; no test may take longer than two minutes.
func browser(t testing.TB) context.Context {
	t.Helper()
	path, err := exec.LookPath("chromium")
	require.NoError(t, err, "Chromium is needed; make test installs it")
	options := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath(path), chromedp.NoSandbox, chromedp.WindowSize(1280, 800),
		chromedp.Flag("disable-quic", true), chromedp.Flag("disable-component-update", true), chromedp.Flag("hide-scrollbars", true))
	ctx, cancel := chromedp.NewExecAllocator(context.Background(), options...)
	t.Cleanup(cancel)
	ctx, cancel = chromedp.NewContext(ctx)
	t.Cleanup(cancel)
	ctx, cancel = context.WithTimeout(ctx, 2*time.Minute)
	t.Cleanup(cancel)
	// The first step starts the browser, which lives as long as its context.
	require.NoError(t, chromedp.Do(ctx, chromedp.EmulateViewport(1280, 800)))
	return ctx
}

// run takes steps, each within a few seconds; a failure names the step and,
// where pictures are asked for, leaves one of what the window showed.
func run(t testing.TB, ctx context.Context, steps ...chromedp.Action[chromedp.Void]) {
	t.Helper()
	for i, step := range steps {
		limited, cancel := context.WithTimeout(ctx, 20*time.Second)
		err := chromedp.Do(limited, step)
		cancel()
		if err != nil {
			pictureOfFailure(t, ctx)
		}
		require.NoError(t, err, "step %d", i+1)
	}
}

// pictureOfFailure writes what the window shows where a test has failed, beside
// other things that are thrown away.
func pictureOfFailure(t testing.TB, ctx context.Context) {
	t.Helper()
	png, err := chromedp.Run(ctx, chromedp.CaptureScreenshot())
	if err != nil {
		t.Logf("no picture of the failure: %v", err)
		return
	}
	name := filepath.Join(os.TempDir(), "rectura-"+t.Name()+".png")
	t.Logf("what the window showed: %s (%v)", name, os.WriteFile(name, png, 0o600))
}

// picture writes what the window shows, if pictures were asked for.
func picture(t *testing.T, ctx context.Context, name string) {
	t.Helper()
	if *shots == "" {
		return
	}
	png, err := chromedp.Run(ctx, chromedp.CaptureScreenshot())
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(*shots, name), png, 0o644))
}

func textOf(t *testing.T, ctx context.Context, selector string) string {
	t.Helper()
	text, err := chromedp.Run(ctx, chromedp.Text(chromedp.CSS(selector)))
	require.NoError(t, err)
	return text
}

// drawn waits until every signal's plot has been drawn.
func drawn() chromedp.Action[chromedp.Void] {
	return chromedp.Func(func(ctx context.Context, target *chromedp.Target) error {
		_, err := chromedp.Poll[bool](`document.querySelectorAll('[data-input] canvas').length === 8`)(ctx, target)
		return err
	})
}

const change = `//*[@role="option"][contains(., "standby_blower")][contains(., "off → on")]`

func TestBench(t *testing.T) {
	_, built := console.Files()
	require.True(t, built, "the console is not built; run make build")
	ctx := browser(t)
	address := startDemo(t)
	run(t, ctx, chromedp.Navigate(address.String()), chromedp.WaitVisible(change), drawn())

	// Play again, by its button; then a click on a change shows its reasons and
	// moves the cursor.
	run(
		t,
		ctx,
		chromedp.Click(`//button[text()="Play"]`),
		chromedp.WaitVisible(change),
		chromedp.Click(change),
		chromedp.WaitVisible(chromedp.CSS(`[data-testid=cursor]`)),
	)
	why := textOf(t, ctx, `[data-testid=why]`)
	assert.Contains(t, why, "Why, at 02:33:37")
	assert.Regexp(t, `oxygen 5\.\d+ mg/L < oxygen_low 6 mg/L`, why)
	assert.Contains(t, why, "for 45 s, since 02:32:52")
	assert.Regexp(t, `last reading .* mg/L · .* mA · \d+ counts`, why)
	assert.Contains(t, textOf(t, ctx, `[data-testid=cursor]`), "02:33:37")
	run(t, ctx, chromedp.WaitVisible(`//*[@role="group"]//div[contains(., "oxygen") and contains(., "5.94") and contains(., "mg/L")]`))
	picture(t, ctx, "bench.png")

	// The keyboard goes on to the output, whose reasons lead back to the reading.
	run(t, ctx, chromedp.SendKeys(chromedp.CSS(`[role=listbox]`), kb.ArrowDown),
		chromedp.WaitVisible(`//*[@data-testid="why"]//b[text()="blower"]`))
	why = textOf(t, ctx, `[data-testid=why]`)
	assert.Contains(t, why, "called by standby_blower")
	assert.Regexp(t, `oxygen 5\.\d+ mg/L < oxygen_low 6 mg/L`, why)

	// Zoom with the keyboard, and back.
	run(t, ctx, chromedp.SendKeys(chromedp.CSS(`[role=group]`), "+++"), chromedp.WaitVisible(`//button[text()="Show all"]`), drawn(),
		chromedp.Click(`//button[text()="Show all"]`), chromedp.WaitNotPresent(`//button[text()="Show all"]`))

	// Another recording, by its menu, with the keyboard.
	run(
		t,
		ctx,
		chromedp.Focus(chromedp.CSS(`button[aria-label=Recording]`)),
		chromedp.KeyEvent(kb.Enter),
		chromedp.WaitVisible(chromedp.CSS(`[role=option][data-highlighted]`)),
		chromedp.KeyEvent(kb.Home),
		chromedp.WaitVisible(`//*[@role="option"][@data-highlighted][contains(., "broken-loop")]`),
		choose(),
		chromedp.WaitVisible(`//*[@role="option"][contains(., "broken loop or no supply")]`),
		drawn(),
	)
	run(t, ctx, chromedp.Click(`//button[normalize-space()="Dark"]`), chromedp.WaitVisible(chromedp.CSS(`html.dark`)), drawn())
	run(
		t,
		ctx,
		chromedp.Click(`//*[@role="option"][contains(., "standby_blower")][contains(., "undecided")]`),
		chromedp.WaitVisible(chromedp.CSS(`[data-testid=cursor]`)),
	)
}

// A click on a lane asks why it is so at that moment; the keyboard asks the other
// lanes, and other moments.
func TestAskingALane(t *testing.T) {
	ctx := browser(t)
	address := startDemo(t)
	run(t, ctx, chromedp.Navigate(address.String()), chromedp.WaitVisible(change), drawn())
	// The blower's lane, at 02:33:04 of the night from 22:00 to 04:00.
	place, err := chromedp.Run(ctx, chromedp.Evaluate[[]float64](`(() => {
		const name = document.querySelector('[data-lane=blower]:not([data-kind=plant])');
		name.scrollIntoView({ block: 'center' });
		const plots = document.querySelector('[data-testid=plots]').getBoundingClientRect();
		const lane = name.getBoundingClientRect();
		return [plots.left + plots.width * (4 * 3600 + 33 * 60 + 4) / (6 * 3600), lane.top + lane.height / 2];
	})()`))
	require.NoError(t, err)
	run(t, ctx, chromedp.MouseClickXY(place[0], place[1]), chromedp.WaitVisible(`//*[@data-testid="why"]//b[text()="blower"]`))
	why := textOf(t, ctx, `[data-testid=why]`)
	assert.Contains(t, why, "blower is off, since 22:00:00")
	assert.Contains(t, why, "not called by standby_blower")
	assert.Regexp(t, `for only \d+(\.\d+)? s of 45 s, since 02:32:52`, why)
	assert.Contains(t, why, "Delays that did not run out")
	assert.Contains(t, why, "Next: on at 02:33:37, called by standby_blower")
	picture(t, ctx, "bench-why.png")

	run(
		t,
		ctx,
		chromedp.SendKeys(chromedp.CSS(`[role=group]`), kb.ArrowUp),
		chromedp.WaitNotPresent(`//*[@data-testid="why"]//b[text()="blower"]`),
	)
	run(
		t,
		ctx,
		chromedp.SendKeys(chromedp.CSS(`[role=group]`), kb.ArrowDown),
		chromedp.WaitVisible(`//*[@data-testid="why"]//b[text()="blower"]`),
	)
	run(
		t,
		ctx,
		chromedp.SendKeys(chromedp.CSS(`[role=group]`), strings.Repeat(kb.ArrowRight, 2)),
		chromedp.WaitVisible(`//*[@data-testid="why"]//b[text()="on"]`),
	)
	assert.Contains(t, textOf(t, ctx, `[data-testid=why]`), "called by standby_blower")
	run(t, ctx, chromedp.Click(change), chromedp.WaitVisible(`//*[@data-testid="why"][contains(., "off → on")]`))

	// An analog output answers too, on the curve that it has with other values.
	dosing := chromedp.CSS(`[data-input=dosing]`)
	run(t, ctx, chromedp.Click(dosing),
		chromedp.WaitVisible(`//*[@data-testid="why"]//b[text()="dosing"]`))
	why = textOf(t, ctx, `[data-testid=why]`)
	assert.Contains(t, why, "called by oxygen_dosing")
	assert.Regexp(
		t,
		`oxygen 7\.\d+ mg/L is 0\.\d+ mg/L below its target oxygen_target 7\.8 mg/L: [\d.]+ % in proportion and [\d.]+ % of integral give [\d.]+ %`,
		why,
	)
	run(
		t,
		ctx,
		chromedp.SendKeys(chromedp.CSS(`[role=group]`), kb.ArrowDown),
		chromedp.WaitVisible(`//*[@data-testid="why"]//b[text()="drum"]`),
	)
}

// Of several jobs one is chosen, and the pages are of that.
func TestSeveralJobs(t *testing.T) {
	ctx := browser(t)
	address := startDemo(t)
	run(t, ctx, chromedp.Navigate(address.String()), chromedp.WaitVisible(change))
	assert.False(t, value[bool](t, ctx, `!!document.querySelector('button[aria-label=Job]')`), "one job needs no menu")
	_, err := chromedp.Run(
		ctx,
		chromedp.Evaluate[bool](
			`fetch('/api/jobs/hut', { method: 'PUT' }).then(() => fetch('/api/jobs/hut/revisions', { method: 'POST', headers: { 'Content-Type': 'application/json' },
		body: JSON.stringify({ sheets: [{ name: 'a.rct', text: 'job "Hut"\ninput hatch discrete\n' }] }) })).then(() => (window.pushed = true)); true`,
		),
	)
	require.NoError(t, err)
	run(t, ctx, poll(`window.pushed === true`))
	address.Path, address.RawQuery = "/points", ""
	run(
		t,
		ctx,
		chromedp.Navigate(address.String()),
		chromedp.WaitVisible(chromedp.CSS(`[data-job=hut]`)),
		chromedp.Click(chromedp.CSS(`[data-job=hut]`)),
		chromedp.WaitVisible(chromedp.CSS(`[data-point=hatch]`)),
		poll(`location.pathname === '/hut/points'`),
	)
	run(
		t,
		ctx,
		chromedp.Focus(chromedp.CSS(`button[aria-label=Job]`)),
		chromedp.KeyEvent(kb.Enter),
		chromedp.WaitVisible(`//*[@role="option"][contains(., "Fennick")]`),
		chromedp.Click(
			`//*[@role="option"][contains(., "Fennick")]`,
		),
		chromedp.WaitVisible(change),
		poll(`location.pathname === '/hatchery/bench'`),
	)
}

// On a phone names and values stand above the strips, and nothing is wider than the
// window; a touch on a lane asks it.
func TestPhone(t *testing.T) {
	ctx := browser(t)
	address := startDemo(t)
	require.NoError(t, chromedp.Do(ctx, chromedp.EmulateViewport(390, 844)))
	within := `(() => [...document.querySelectorAll('main *')].filter((e) => e.getBoundingClientRect().right > innerWidth + 1 && !e.closest('.overflow-auto, .overflow-hidden, .truncate')).map((e) => e.outerHTML.slice(0, 120)))()`
	run(t, ctx, chromedp.Navigate(address.String()), chromedp.WaitVisible(change), drawn())
	assert.Empty(t, value[[]string](t, ctx, within))
	assert.LessOrEqual(t, value[float64](t, ctx, `document.documentElement.scrollWidth`), 390.0)
	name := value[[]float64](
		t,
		ctx,
		`(() => { const p = document.querySelector('[data-panel=oxygen]'); const c = p.querySelector('canvas').getBoundingClientRect(); const n = p.querySelector('span').getBoundingClientRect(); return [n.bottom, c.top, c.width]; })()`,
	)
	assert.LessOrEqual(t, name[0], name[1]+1, "the name stands above its strip")
	assert.Greater(t, name[2], 320.0, "which has the width")
	run(
		t,
		ctx,
		chromedp.Click(chromedp.CSS(`[data-lane=low_inflow] [data-name]`)),
		chromedp.Click(change),
		chromedp.WaitVisible(chromedp.CSS(`[data-testid=cursor]`)),
	)

	run(
		t,
		ctx,
		poll(`(() => { document.querySelector('[data-testid=plots]').scrollIntoView({ block: 'start' }); scrollBy(0, -120); return true; })()`),
	)
	picture(t, ctx, "bench-phone.png")

	// Two fingers, put on 100 pixels apart and drawn to 200, show half of the time.
	heading := `(document.querySelector('h2.font-semibold')?.textContent ?? '')`
	whole := value[string](t, ctx, heading)
	plots := value[[]float64](
		t,
		ctx,
		`(() => { const e = document.querySelector('[data-testid=plots]'); e.scrollIntoView(); const r = e.getBoundingClientRect(); return [r.left, r.top + 60, r.width]; })()`,
	)
	touch := func(kind input.DispatchTouchEventType, apart float64) chromedp.Action[chromedp.Void] {
		return func(ctx context.Context, target *chromedp.Target) (chromedp.Void, error) {
			var fingers []*input.TouchPoint
			if apart > 0 {
				for id, x := range []float64{plots[0] + plots[2]/2 - apart/2, plots[0] + plots[2]/2 + apart/2} {
					number := float64(id)
					fingers = append(fingers, &input.TouchPoint{X: x, Y: plots[1], ID: &number})
				}
			}
			_, err := cdp.Call(ctx, target, input.DispatchTouchEvent, input.DispatchTouchEventParams{Type: kind, TouchPoints: fingers})
			return chromedp.Void{}, err
		}
	}
	run(t, ctx, touch("touchStart", 100), touch("touchMove", 120), touch("touchMove", 160), touch("touchMove", 200), touch("touchEnd", 0),
		poll(heading+` !== '`+whole+`'`), chromedp.WaitVisible(`//button[text()="Show all"]`), drawn())
	assert.Contains(
		t,
		value[string](t, ctx, `document.querySelector('h2.font-semibold').nextElementSibling.textContent`),
		"3 h · ",
		"half of six hours",
	)

	for path, seen := range map[string]chromedp.Action[chromedp.Void]{
		"/hatchery/rules?rule=standby_blower": rulesDrawn("standby_blower"),
		"/hatchery/points?point=oxygen":       chromedp.WaitVisible(chromedp.CSS(`[data-testid=curve]`)),
	} {
		next, err := address.Parse(path)
		require.NoError(t, err)
		run(t, ctx, chromedp.Navigate(next.String()), seen)
		assert.Empty(t, value[[]string](t, ctx, within), path)
		assert.LessOrEqual(t, value[float64](t, ctx, `document.documentElement.scrollWidth`), 390.0, path)
	}
}

// Opening the pages logs no error in the browser.
func TestNothingIsLogged(t *testing.T) {
	ctx := browser(t)
	address := startDemo(t)
	var mu sync.Mutex
	var logged []string
	note := func(s string) {
		mu.Lock()
		defer mu.Unlock()
		logged = append(logged, s)
	}
	require.NoError(t, chromedp.Listen(ctx, func(ev any) {
		switch ev := ev.(type) {
		case *cdplog.EventEntryAdded:
			if ev.Entry.Level == "error" || ev.Entry.Level == "warning" {
				note(ev.Entry.Text + " " + ev.Entry.URL)
			}
		case *runtime.EventExceptionThrown:
			note(ev.ExceptionDetails.Text)
		case *runtime.EventConsoleAPICalled:
			if ev.Type == "error" || ev.Type == "warning" {
				note(string(ev.Args[0].Value))
			}
		}
	}))
	for _, page := range []struct {
		path string
		seen chromedp.Action[chromedp.Void]
	}{
		{"/hatchery/now", shows("This job is idle")},
		{"/hatchery/bench", drawn()},
		{"/hatchery/rules?rule=standby_blower", rulesDrawn("standby_blower")},
		{"/hatchery/points?point=oxygen", chromedp.WaitVisible(chromedp.CSS(`[data-testid=curve]`))},
		{"/hatchery/rules", chromedp.WaitVisible(chromedp.CSS(`[data-testid=picture], [data-rule]`))},
	} {
		next, err := address.Parse(page.path)
		require.NoError(t, err)
		run(t, ctx, chromedp.Navigate(next.String()), page.seen)
	}
	mu.Lock()
	defer mu.Unlock()
	assert.Empty(t, logged)
}

func TestOtherValues(t *testing.T) {
	ctx := browser(t)
	address := startDemo(t)
	run(
		t,
		ctx,
		chromedp.Navigate(address.String()),
		chromedp.WaitVisible(change),
		drawn(),
		chromedp.Click(`//button[text()="Other values…"]`),
		chromedp.WaitVisible(chromedp.CSS(`input[name=oxygen_low]`)),
		chromedp.SetValue(
			chromedp.CSS(`input[name=oxygen_low]`),
			"4.2 mg/L",
		),
		chromedp.SetValue(chromedp.CSS(`input[name="low_inflow.for"]`), "2 min"),
	)
	run(
		t,
		ctx,
		chromedp.Click(`//button[text()="Play with these"]`),
		chromedp.WaitNotPresent(change),
		chromedp.WaitVisible(`//*[text()="other values than written"]`),
		chromedp.WaitVisible(`//*[@role="option"][contains(., "low_inflow")][contains(., "for 2 min")]`),
	)

	// Several values give a row each.
	run(
		t,
		ctx,
		chromedp.Click(`//button[text()="Other values…"]`),
		chromedp.WaitVisible(chromedp.CSS(`input[name=oxygen_low]`)),
		chromedp.SetValue(chromedp.CSS(`input[name=oxygen_low]`), "5,6 mg/L"),
		chromedp.Click(`//button[text()="Play with these"]`),
		chromedp.WaitVisible(
			`//*[@data-testid="variations"]//tr[td[1]="6 mg/L"]/td[contains(., "1 × ")]`,
		),
		chromedp.WaitVisible(`//*[@data-testid="variations"]//th[text()="blower"]`),
	)

	// A value outside the setpoint's limits is refused in a sentence.
	run(t, ctx, chromedp.Click(`//button[text()="Other values…"]`), chromedp.WaitVisible(chromedp.CSS(`input[name=oxygen_low]`)),
		chromedp.SetValue(chromedp.CSS(`input[name=oxygen_low]`), "12 mg/L"), chromedp.Click(`//button[text()="Play with these"]`),
		chromedp.WaitVisible(chromedp.CSS(`[role=alert]`)))
	assert.Contains(t, textOf(t, ctx, `[role=alert]`), "it is allowed from 4.0..9.0 mg/L")
}
