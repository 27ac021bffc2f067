//go:build e2e

package e2e

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A point opens to its chain; a reading typed into any stage is taken to the
// others, lies on the curve, and is judged.
func TestPoints(t *testing.T) {
	ctx := browser(t)
	address := startDemo(t)
	address.Path, address.RawQuery = "/points", ""
	run(t, ctx, chromedp.Navigate(address.String()), chromedp.WaitVisible(chromedp.CSS(`[data-point=oxygen]`)))
	picture(t, ctx, "points.png")

	// Find, and sort.
	run(
		t,
		ctx,
		chromedp.SendKeys(chromedp.CSS(`input[type=search]`), "drum"),
		chromedp.WaitNotPresent(chromedp.CSS(`[data-point=oxygen]`)),
		chromedp.WaitVisible(chromedp.CSS(`[data-point=filter_dp]`)),
	)
	run(
		t,
		ctx,
		chromedp.Navigate(address.String()),
		chromedp.WaitVisible(chromedp.CSS(`[data-point=oxygen]`)),
		chromedp.Click(
			`//th/button[contains(., "point")]`,
		),
		chromedp.WaitVisible(`//tbody/tr[1][@data-point="beacon" or @data-point="amber_lamp"]`),
	)

	run(t, ctx, chromedp.Click(chromedp.CSS(`[data-point=temperature] button`)), chromedp.WaitVisible(chromedp.CSS(`[data-testid=on-curve]`)))
	run(
		t,
		ctx,
		chromedp.Click(chromedp.CSS(`input[name=place-2]`)),
		chromedp.SendKeys(
			chromedp.CSS(`input[name=place-2]`),
			kb.End+kb.Backspace+kb.Backspace+kb.Backspace+kb.Backspace+kb.Backspace+kb.Backspace+kb.Backspace+kb.Backspace+"12.5",
		),
		chromedp.WaitVisible(`//*[@data-testid="quality"][contains(., "good")]`),
	)
	_, err := chromedp.Run(ctx, chromedp.Poll[bool](`document.querySelector('input[name=place-1]').value.startsWith('1048')`))
	require.NoError(t, err)
	run(
		t,
		ctx,
		chromedp.Click(chromedp.CSS(`input[name=place-1]`)),
		chromedp.SendKeys(
			chromedp.CSS(`input[name=place-1]`),
			kb.End+kb.Backspace+kb.Backspace+kb.Backspace+kb.Backspace+kb.Backspace+kb.Backspace+kb.Backspace+kb.Backspace+"3000",
		),
		chromedp.WaitVisible(`//*[@data-testid="quality"][contains(., "bad")][contains(., "3000 ohm is above 1200 ohm")]`),
	)
}

// A calibration made in the console stands in the sheet as text, as a new
// revision, and counts in the next replay.
func TestCalibrate(t *testing.T) {
	ctx := browser(t)
	address := startDemo(t)
	address.Path, address.RawQuery = "/points", "point=oxygen"
	run(
		t,
		ctx,
		chromedp.Navigate(address.String()),
		chromedp.WaitVisible(chromedp.CSS(`[data-opened=oxygen]`)),
		chromedp.Click(`//button[@role="tab"][text()="Calibrate"]`),
		chromedp.WaitVisible(
			chromedp.CSS(`input[name=measured-0]`),
		),
		chromedp.SendKeys(chromedp.CSS(`input[name=measured-0]`), "0.12"),
		chromedp.SendKeys(chromedp.CSS(`input[name=reference-0]`), "0"),
		chromedp.Click(
			`//button[text()="Another reading"]`,
		),
		chromedp.SendKeys(chromedp.CSS(`input[name=measured-1]`), "9.40"),
		chromedp.SendKeys(chromedp.CSS(`input[name=reference-1]`), "9.45"),
		chromedp.WaitVisible(`//*[@data-testid="clause"][contains(., "9.4 mg/L to 9.45 mg/L")]`),
	)
	opened := textOf(t, ctx, `[data-opened=oxygen]`)
	assert.Contains(t, opened, "+0.12")
	assert.Contains(t, opened, "+0.6 % of span")
	picture(t, ctx, "point-calibrate.png")
	run(
		t,
		ctx,
		chromedp.Click(`//button[text()="Save as a new revision"]`),
		chromedp.WaitVisible(`//button[@aria-label="Revision"][contains(., "Revision 2")]`),
		chromedp.Click(
			`//button[@role="tab"][text()="Text"]`,
		),
		chromedp.WaitVisible(`//pre[contains(., "correct 0.12 mg/L to 0 mg/L, 9.4 mg/L to 9.45 mg/L  # calibrated 20")]`),
	)
	address.Path, address.RawQuery = "/bench", "revision=2&recording=4"
	run(
		t,
		ctx,
		chromedp.Navigate(address.String()),
		chromedp.WaitVisible(`//*[@role="option"][contains(., "standby_blower")][contains(., "off → on")]`),
	)
}

// Dragging over a normal and a trouble window proposes a trip point, which can
// be kept as a rule.
func TestTeach(t *testing.T) {
	ctx := browser(t)
	address := startDemo(t)
	address.Path, address.RawQuery = "/points", "point=inflow"
	run(
		t,
		ctx,
		chromedp.Navigate(address.String()),
		chromedp.WaitVisible(chromedp.CSS(`[data-opened=inflow]`)),
		chromedp.Click(`//button[@role="tab"][contains(., "teach")]`),
		chromedp.WaitVisible(
			chromedp.CSS(`button[aria-label=Recording]`),
		),
		chromedp.Focus(chromedp.CSS(`button[aria-label=Recording]`)),
		chromedp.KeyEvent(kb.Enter),
		chromedp.WaitVisible(chromedp.CSS(`[role=option][data-highlighted]`)),
		chromedp.Click(
			`//*[@role="option"][contains(., "pump-trip.csv")]`,
		),
		chromedp.WaitVisible(chromedp.CSS(`[data-testid=study]`)),
		chromedp.WaitVisible(chromedp.CSS(`[data-testid=histogram]`)),
	)
	drag := func(from, to float64) {
		box, err := chromedp.Run(
			ctx,
			chromedp.Evaluate[[]float64](
				`(() => { const b = document.querySelector('[data-testid=study]').getBoundingClientRect(); return [b.left + 52, b.top + 60, b.width - 202]; })()`,
			),
		)
		require.NoError(t, err)
		x := func(part float64) float64 { return box[0] + part*box[2] }
		run(t, ctx, chromedp.DragAndDropXY(x(from), box[1], x(to), box[1], 8))
	}
	drag(0.01, 0.10) // two hours: the pump trips 14 minutes after the start, for 26 minutes
	run(t, ctx, chromedp.WaitVisible(chromedp.CSS(`[data-window=normal]`)))
	drag(0.14, 0.31)
	run(t, ctx, chromedp.WaitVisible(chromedp.CSS(`[data-testid=lesson] form`)))
	assert.Regexp(t, `Trip at 2\d\s*L/s falling`, textOf(t, ctx, `[data-testid=lesson]`))
	picture(t, ctx, "point-teach.png")
	run(
		t,
		ctx,
		chromedp.SendKeys(chromedp.CSS(`input[name=rule]`), "pump_tripped"),
		chromedp.Click(`//*[@data-testid="lesson"]//button[text()="Save as a new revision"]`),
		chromedp.WaitVisible(`//button[@aria-label="Revision"][contains(., "Revision 2")]`),
	)
}

// A file is shown as it is understood before anything is kept; what is wrong
// with it is said, and how to read it can be set.
func TestImport(t *testing.T) {
	ctx := browser(t)
	address := startDemo(t)
	file := filepath.Join(t.TempDir(), "logger.csv")
	text := "Zeit;DO R1;mains;blower\r\n"
	for _, row := range []string{"02/03/2026 02:00:00;7,91;1;0", "02/03/2026 02:00:30;7,64;1;0", "02/03/2026 02:01:00;5,80;1;0", "02/03/2026 02:02:00;;1;1", "02/03/2026 02:03:00;bad;1;1", "02/03/2026 02:05:00;5,77;0;1"} {
		text += row + "\r\n"
	}
	require.NoError(t, os.WriteFile(file, []byte(text), 0o644))
	run(
		t,
		ctx,
		chromedp.Navigate(address.String()),
		chromedp.WaitVisible(`//button[text()="Bring in…"]`),
		chromedp.SetUploadFiles(chromedp.CSS(`[data-testid=file]`), []string{file}),
		chromedp.WaitVisible(`//*[@role="dialog"]//*[@role="alert"][contains(., "reads as a date in more than one way")]`),
		chromedp.SendKeys(
			chromedp.CSS(`input[name="time format"]`),
			"DD/MM/YYYY hh:mm:ss"+kb.Enter,
		),
		chromedp.WaitVisible(chromedp.CSS(`[data-testid=understood]`)),
		chromedp.SendKeys(
			chromedp.CSS(`input[aria-label="Point of DO R1"]`),
			"oxygen [mg/L]"+kb.Enter,
		),
		chromedp.WaitVisible(`//th[contains(., "analog input, in mg/L")]`),
	)
	understood := textOf(t, ctx, `[data-testid=understood]`)
	assert.Contains(t, understood, "CSV, wide, separated by semicolon, decimal comma")
	assert.Contains(t, understood, "2 March 2026 02:00:00")
	picture(t, ctx, "import.png")
	run(
		t,
		ctx,
		chromedp.Click(`//button[text()="Keep it"]`),
		chromedp.WaitNotPresent(chromedp.CSS(`[role=dialog]`)),
		chromedp.WaitVisible(`//button[@aria-label="Recording"][contains(., "logger.csv")]`),
		chromedp.WaitVisible(`//p[contains(., "column blower is an output")]`),
	)
}
