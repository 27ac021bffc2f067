//go:build e2e

package e2e

import (
	"context"
	"os"
	"strings"
	"testing"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// openRules opens the page with one rule, and waits until it is drawn.
func openRules(t *testing.T, rule string) context.Context {
	t.Helper()
	ctx := browser(t)
	address := startDemo(t)
	address.Path, address.RawQuery = "/rules", "rule="+rule
	run(t, ctx, chromedp.Navigate(address.String()), rulesDrawn(rule))
	return ctx
}

func rulesDrawn(rule string) chromedp.Action[chromedp.Void] {
	return chromedp.Func(func(ctx context.Context, target *chromedp.Target) error {
		_, err := chromedp.Poll[bool](
			`!!document.querySelector('[data-rule=`+rule+`] [data-testid=picture] [role=img]') && !!document.querySelector('[data-rule=`+rule+`] .cm-content') && !document.body.textContent.includes('playing…')`,
		)(
			ctx,
			target,
		)
		return err
	})
}

// value of an expression in the page.
func value[T any](t testing.TB, ctx context.Context, expression string) T {
	t.Helper()
	v, err := chromedp.Run(ctx, chromedp.Evaluate[T](expression))
	require.NoError(t, err)
	return v
}

func poll(expression string) chromedp.Action[chromedp.Void] {
	return chromedp.Func(func(ctx context.Context, target *chromedp.Target) error {
		_, err := chromedp.Poll[bool](expression)(ctx, target)
		return err
	})
}

// text of the editor.
const editorText = `[...document.querySelectorAll('[data-testid=editor] .cm-line')].map((l) => l.textContent).join('\n')`

// A setpoint is changed in the sentence: text and picture follow, it is saved, and
// the revision and its difference are seen.
func TestRules(t *testing.T) {
	ctx := openRules(t, "standby_blower")
	page := textOf(t, ctx, `[data-rule=standby_blower]`)
	assert.Contains(t, page, "6mg/L falling")
	assert.Contains(t, page, "8.8 mA · 1802 counts")
	assert.Contains(t, value[string](t, ctx, editorText), "on when oxygen < oxygen_low for blower_delay")
	picture(t, ctx, "rules.png")
	before := value[string](t, ctx, `document.querySelector('[data-testid=picture] [role=img]').getAttribute('aria-label')`)

	number := chromedp.CSS(`input[aria-label="Low oxygen, in mg/L"]`)
	run(t, ctx, chromedp.Focus(number), chromedp.SendKeys(number, strings.Repeat(kb.ArrowUp, 14)),
		poll(`document.querySelector('[data-point=trips]').textContent.includes('7.4')`), rulesDrawn("standby_blower"))
	after := value[string](t, ctx, `document.querySelector('[data-testid=picture] [role=img]').getAttribute('aria-label')`)
	assert.NotEqual(t, before, after, "it would have tripped at another time")
	assert.Contains(t, after, "standby_blower comes on at ")
	run(
		t,
		ctx,
		chromedp.Click(`//button[starts-with(., "Save as revision 2")]`),
		chromedp.WaitVisible(chromedp.CSS(`[data-testid=differences]`)),
	)
	difference := textOf(t, ctx, `[data-testid=differences]`)
	assert.Contains(t, difference, "oxygen_low setpoint changed")
	assert.Contains(t, difference, "− setpoint oxygen_low \"Low oxygen\" 6.0 mg/L")
	assert.Contains(t, difference, "+ setpoint oxygen_low \"Low oxygen\" 7.4 mg/L")
	assert.NotContains(t, difference, "standby_blower", "nothing else is different")
	run(
		t,
		ctx,
		chromedp.Click(`//form//button[text()="Save"]`),
		chromedp.WaitVisible(`//*[@role="status"][contains(., "Saved as revision 2.")]`),
		chromedp.WaitVisible(`//button[@aria-label="Revision"][contains(., "Revision 2")]`),
		chromedp.Click(`//summary`),
		chromedp.WaitVisible(`//details//pre[contains(., "7.4 mg/L")]`),
	)

	// An earlier revision is as it was.
	run(
		t,
		ctx,
		chromedp.Click(chromedp.CSS(`button[aria-label=Revision]`)),
		chromedp.Click(`//*[@role="option"][contains(., "Revision 1")]`),
		chromedp.WaitVisible(`//small[contains(., "2 is newer")]`),
		rulesDrawn("standby_blower"),
		poll(
			`document.querySelector('[data-point=trips]').textContent.includes('6mg/L')`,
		),
		chromedp.Click(chromedp.CSS(`button[aria-label=Revision]`)),
		chromedp.Click(`//*[@role="option"][contains(., "Revision 2")]`),
		poll(`document.querySelector('[data-point=trips]')?.textContent.includes('7.4')`),
		rulesDrawn("standby_blower"),
	)

	// The number is dragged, too, beyond its limits and back, and all of it is undone
	// at once.
	place := value[[]float64](
		t,
		ctx,
		`(() => { const r = document.querySelector('input[aria-label="Low oxygen, in mg/L"]').getBoundingClientRect(); return [r.x + r.width / 2, r.y + r.height / 2]; })()`,
	)
	run(
		t,
		ctx,
		chromedp.MouseEvent(input.DispatchMouseEventTypeMousePressed, place[0], place[1], chromedp.Button("left"), chromedp.ClickCount(1)),
		chromedp.MouseEvent(
			input.DispatchMouseEventTypeMouseMoved,
			place[0]+100,
			place[1],
			chromedp.Button("left"),
		),
		chromedp.WaitVisible(`//*[@data-testid="findings"]//li[contains(., "setpoint-limits")]`),
		chromedp.MouseEvent(
			input.DispatchMouseEventTypeMouseMoved,
			place[0]-40,
			place[1],
			chromedp.Button("left"),
		),
		poll(`document.querySelector('[data-point=trips]').textContent.includes('6.4')`),
		chromedp.MouseEvent(
			input.DispatchMouseEventTypeMouseMoved,
			place[0]-60,
			place[1],
			chromedp.Button("left"),
		),
		poll(`document.querySelector('[data-point=trips]').textContent.includes('5.9')`),
		chromedp.MouseEvent(
			input.DispatchMouseEventTypeMouseReleased,
			place[0]-60,
			place[1],
			chromedp.Button("left"),
		),
		rulesDrawn("standby_blower"),
		chromedp.KeyEvent(
			"z",
			chromedp.KeyModifiers(chromedp.ModifierCtrl),
		),
		poll(`document.querySelector('[data-point=trips]').textContent.includes('7.4')`),
	)
}

// A wrong unit in the text is found at its place, and is kept as a draft that a
// closed page gets back; undone, nothing is left of it.
func TestFindingsWhileWriting(t *testing.T) {
	ctx := openRules(t, "low_inflow")
	editor := chromedp.CSS(`[data-testid=editor] .cm-content`)
	run(t, ctx, chromedp.Focus(editor), poll(`document.activeElement.classList.contains('cm-content')`))
	// To the end of the line of the condition, back over " for 30 s", and mg/L in the place of L/s.
	run(t, ctx, chromedp.KeyEvent(kb.ArrowDown), chromedp.KeyEvent(kb.End))
	run(
		t,
		ctx,
		chromedp.KeyEvent(strings.Repeat(kb.ArrowLeft, len(" for 30 s"))),
		chromedp.KeyEvent(strings.Repeat(kb.Backspace, len("L/s"))),
		chromedp.KeyEvent("mg/L"),
	)
	run(
		t,
		ctx,
		chromedp.WaitVisible(chromedp.CSS(`.cm-lintRange-error`)),
		chromedp.WaitVisible(`//*[@data-testid="findings"]//li[contains(., "unit-mismatch")]`),
	)
	assert.Contains(t, value[string](t, ctx, editorText), "hysteresis 3 mg/L for 30 s")
	finding := textOf(t, ctx, `[data-testid=findings] li`)
	assert.Regexp(t, `error, rules\.rct:\d+:\d+`, finding)
	assert.Equal(
		t,
		"3",
		value[string](t, ctx, `document.querySelector('.cm-lintRange-error').textContent`),
		"the place is the number with that unit",
	)
	assert.True(t, value[bool](t, ctx, `[...document.querySelectorAll('button')].find((b) => b.textContent.startsWith('Save as')).disabled`))
	run(t, ctx, chromedp.KeyEvent(kb.Escape), chromedp.WaitVisible(`//*[@role="status"][contains(., "kept as a draft")]`))

	// Names and units are completed.
	run(
		t,
		ctx,
		chromedp.KeyEvent(kb.End),
		chromedp.KeyEvent(" or infl"),
		chromedp.WaitVisible(`//*[contains(@class, "cm-tooltip-autocomplete")]//li[contains(., "inflow_low")]`),
		chromedp.KeyEvent(
			kb.Escape,
		),
		chromedp.KeyEvent("ow < 3 L"),
		chromedp.WaitVisible(`//*[contains(@class, "cm-tooltip-autocomplete")]//li[contains(., "L/min")]`),
		chromedp.KeyEvent(kb.Escape),
		chromedp.KeyEvent(strings.Repeat(kb.Backspace, len(" or inflow < 3 L"))),
	)

	run(
		t,
		ctx,
		chromedp.Reload(),
		chromedp.WaitVisible(`//*[@role="status"][contains(., "What you had written is back")]`),
		chromedp.WaitVisible(`//*[@data-testid="findings"]//li[contains(., "unit-mismatch")]`),
	)
	run(
		t,
		ctx,
		chromedp.Click(`//button[text()="Discard"]`),
		poll(`!document.querySelector('[data-testid=findings] li')`),
		rulesDrawn("low_inflow"),
	)
	assert.Contains(t, value[string](t, ctx, editorText), "hysteresis 3 L/s for 30 s")
	run(
		t,
		ctx,
		chromedp.Click(`//button[contains(., "Undo")]`),
		chromedp.WaitVisible(`//*[@data-testid="findings"]//li[contains(., "unit-mismatch")]`),
	)
}

// A rule is written by menus only, and tried.
func TestNewRule(t *testing.T) {
	ctx := openRules(t, "hopper_low")
	run(t, ctx, chromedp.Click(`//button[starts-with(., "New rule")]`), chromedp.WaitVisible(`//button[contains(., "run-fail")]`))
	run(
		t,
		ctx,
		chromedp.Click(`//button[contains(., "two-position")]`),
		chromedp.WaitVisible(chromedp.CSS(`[data-pattern=two-position]`)),
		chromedp.Click(
			chromedp.CSS(`button[aria-label^="Stands for Header tank filling valve"]`),
		),
		chromedp.Click(`//*[@role="option"][contains(., "Amber lamp")]`),
	)
	picture(t, ctx, "rules-new.png")
	run(
		t,
		ctx,
		chromedp.Click(`//button[text()="Put it into the job"]`),
		poll("("+editorText+").startsWith('rule filling')"),
		chromedp.Click(
			`//*[@data-testid="findings"]//button[contains(., "called-by")]`,
		),
		poll("("+editorText+").startsWith('output amber_lamp')"),
	)
	// The lamp has two callers now, and the finding leads to its text; it is left to
	// its own rule instead.
	run(t, ctx, chromedp.Click(`//button[contains(., "Undo")]`), poll(`!document.querySelector('[data-testid=findings] li')`))
	run(
		t,
		ctx,
		chromedp.Click(`//button[starts-with(., "New rule")]`),
		chromedp.Click(`//button[contains(., "two-position")]`),
		chromedp.WaitVisible(chromedp.CSS(`[data-pattern=two-position]`)),
		chromedp.Click(
			`//button[text()="Put it into the job"]`,
		),
		chromedp.WaitVisible(chromedp.CSS(`[data-rule=filling] .cm-content`)),
		rulesDrawn("filling"),
	)
	assert.Contains(
		t,
		textOf(t, ctx, `[data-testid=sentence]`),
		"Call Header tank filling valve when Header tank level is below Header tank fills from here (",
	)
	run(t, ctx, chromedp.WaitVisible(`//*[@data-tried="fill_valve"]`))
	thumb := chromedp.CSS(`[data-testid=try] [role=slider]`)
	run(
		t,
		ctx,
		chromedp.Focus(thumb),
		chromedp.KeyEvent(kb.ArrowLeft),
		chromedp.WaitVisible(`//*[@data-tried="fill_valve"]/span[text()="on"]`),
	)
	picture(t, ctx, "rules-try.png")
	run(t, ctx, chromedp.KeyEvent(kb.End), chromedp.WaitVisible(`//*[@data-tried="fill_valve"]/span[text()="off"]`))
}

// All of it by keyboard alone: the rule is chosen, a number stepped, a comparison
// changed by its menu, an output renamed, saved with a note.
func TestRulesByKeyboard(t *testing.T) {
	ctx := openRules(t, "standby_blower")
	run(t, ctx, tabTo(`document.activeElement.dataset.item === 'low_inflow'`), chromedp.KeyEvent(kb.Enter), rulesDrawn("low_inflow"))
	run(
		t,
		ctx,
		tabTo(`(document.activeElement.getAttribute('aria-label') ?? '').startsWith('Comparison')`),
		chromedp.KeyEvent(kb.Enter),
		chromedp.WaitVisible(chromedp.CSS(`[role=option][data-highlighted]`)),
		chromedp.KeyEvent(
			kb.ArrowDown,
		),
		chromedp.WaitVisible(`//*[@role="option"][@data-highlighted][contains(., "at or below")]`),
		choose(),
		poll(`document.querySelector('[data-testid=sentence]').textContent.includes('at or below')`),
		poll(`!document.querySelector('[role=option]')`),
	)
	run(
		t,
		ctx,
		tabTo(`document.activeElement.getAttribute('aria-label') === 'Low inflow, in L/s'`),
		chromedp.KeyEvent(kb.PageDown),
		poll(`document.querySelector('[data-point=trips]').textContent.includes('15')`),
		rulesDrawn("low_inflow"),
	)
	run(
		t,
		ctx,
		tabTo(`document.activeElement.textContent === 'Rename…'`),
		chromedp.KeyEvent(kb.Enter),
		poll(`document.activeElement.name === 'to'`),
	)
	run(
		t,
		ctx,
		selectAll(),
		chromedp.KeyEvent("mains"),
		chromedp.KeyEvent(kb.Enter),
		chromedp.WaitVisible(`//form//*[@role="alert"][contains(., "already that of the input")]`),
	)
	run(
		t,
		ctx,
		selectAll(),
		chromedp.KeyEvent("too_little_inflow"),
		chromedp.KeyEvent(kb.Enter),
		chromedp.WaitVisible(chromedp.CSS(`[data-rule=too_little_inflow] .cm-content`)),
	)
	assert.Contains(t, value[string](t, ctx, editorText), "rule too_little_inflow \"Low inflow\"\n  on when inflow <= inflow_low")
	run(
		t,
		ctx,
		tabTo(`document.activeElement.textContent.startsWith('New rule')`),
		chromedp.KeyEvent(kb.Enter),
		chromedp.WaitVisible(`//button[contains(., "watchdog")]`),
		tabTo(
			`document.activeElement.textContent.startsWith('watchdog')`,
		),
		chromedp.KeyEvent(kb.Enter),
		chromedp.WaitVisible(chromedp.CSS(`[data-pattern=watchdog]`)),
		tabTo(
			`(document.activeElement.getAttribute('aria-label') ?? '').startsWith('Stands for Raceway pH')`,
		),
		chromedp.KeyEvent(kb.Enter),
		chromedp.WaitVisible(chromedp.CSS(`[role=option][data-highlighted]`)),
		chromedp.KeyEvent(
			kb.ArrowDown,
		),
		chromedp.WaitVisible(`//*[@role="option"][@data-highlighted][contains(., "Raceway 1 pH")]`),
		choose(),
		poll(`!document.querySelector('[role=option]')`),
		tabTo(
			`document.activeElement.textContent === 'Put it into the job'`,
		),
		chromedp.KeyEvent(kb.Enter),
		chromedp.WaitVisible(chromedp.CSS(`[data-rule=meter_silent] .cm-content`)),
		rulesDrawn("meter_silent"),
	)
	assert.Contains(t, textOf(t, ctx, `[data-testid=sentence]`), "when Raceway 1 pH is bad")
	run(
		t,
		ctx,
		tabTo(`document.activeElement.textContent.startsWith('Save as revision 2')`),
		chromedp.KeyEvent(kb.Enter),
		chromedp.WaitVisible(chromedp.CSS(`[data-testid=differences]`)),
	)
	difference := textOf(t, ctx, `[data-testid=differences]`)
	for _, want := range []string{"low_inflow rule taken out", "too_little_inflow rule added", "inflow_low setpoint changed", "meter_silent rule added"} {
		assert.Contains(t, difference, want)
	}
	run(
		t,
		ctx,
		tabTo(`document.activeElement.placeholder?.startsWith('why')`),
		chromedp.KeyEvent("by keyboard"),
		chromedp.KeyEvent(kb.Enter),
		chromedp.WaitVisible(`//*[@role="status"][contains(., "Saved as revision 2.")]`),
	)
}

// A point is renamed, too, in every place that has it.
func TestRenamingAPoint(t *testing.T) {
	ctx := openRules(t, "low_inflow")
	run(
		t,
		ctx,
		chromedp.Click(`//summary[contains(., "points, setpoints")]`),
		chromedp.Click(chromedp.CSS(`[data-other=inflow]`)),
		chromedp.WaitVisible(chromedp.CSS(`[data-text=inflow] .cm-content`)),
		chromedp.Click(
			`//button[text()="Rename…"]`,
		),
		poll(`document.activeElement.name === 'to'`),
		selectAll(),
		chromedp.KeyEvent("spring_inflow"),
		chromedp.KeyEvent(kb.Enter),
		chromedp.WaitVisible(chromedp.CSS(`[data-text=spring_inflow] .cm-content`)),
		poll("("+editorText+").startsWith('input spring_inflow')"),
		chromedp.Click(
			chromedp.CSS(`[data-item=low_inflow]`),
		),
		chromedp.WaitVisible(chromedp.CSS(`[data-rule=low_inflow] .cm-content`)),
		poll("("+editorText+").includes('on when spring_inflow < inflow_low')"),
	)

	// A name that is typed in the text is the rule's name at once, and the editor
	// stays where it is.
	run(
		t,
		ctx,
		chromedp.Focus(chromedp.CSS(`[data-testid=editor] .cm-content`)),
		poll(`document.activeElement.classList.contains('cm-content')`),
		chromedp.KeyEvent(
			strings.Repeat(kb.ArrowRight, len("rule low_inflow")),
		),
		chromedp.KeyEvent("_today"),
		chromedp.WaitVisible(chromedp.CSS(`[data-rule=low_inflow_today] .cm-content`)),
	)
	assert.True(t, value[bool](t, ctx, `document.activeElement.classList.contains('cm-content')`))
	assert.Contains(t, value[string](t, ctx, editorText), "rule low_inflow_today \"Low inflow\"")
}

// tabTo presses the tabulator until the focus is where it is wanted.
func tabTo(there string) chromedp.Action[chromedp.Void] {
	return chromedp.Func(func(ctx context.Context, target *chromedp.Target) error {
		for range 120 {
			if err := chromedp.Do(ctx, chromedp.KeyEvent(kb.Tab)); err != nil {
				return err
			}
			if ok, err := chromedp.Run(ctx, chromedp.Evaluate[bool]("!!("+there+")")); err != nil || ok {
				return err
			}
		}
		return context.DeadlineExceeded
	})
}

// choose presses Enter on an option of a menu. The character that goes with it is
// left out: a keyboard's reaches the menu still, and a separate event the button
// that has the focus by then.
func choose() chromedp.Action[chromedp.Void] {
	return chromedp.Func(func(ctx context.Context, target *chromedp.Target) error {
		for _, k := range kb.Encode('\r') {
			if k.Type == kb.KeyChar {
				continue
			}
			if _, err := cdp.Call(ctx, target, input.DispatchKeyEvent, *k); err != nil {
				return err
			}
		}
		return nil
	})
}

func selectAll() chromedp.Action[chromedp.Void] {
	return chromedp.Func(func(ctx context.Context, target *chromedp.Target) error {
		_, err := chromedp.Run(ctx, chromedp.Evaluate[bool](`document.activeElement.select() === undefined`))
		return err
	})
}

// Somebody else saves meanwhile: the second is shown the difference, and puts hers
// onto his.
func TestSavingSecond(t *testing.T) {
	ctx := openRules(t, "hopper_low")
	number := chromedp.CSS(`input[aria-label="Hopper to be refilled, in kg"]`)
	run(
		t,
		ctx,
		chromedp.Focus(number),
		chromedp.KeyEvent(kb.ArrowUp),
		poll(`document.querySelector('[data-point=trips]').textContent.includes('121')`),
	)
	assert.True(t, value[bool](t, ctx, `(() => {
		window.done = undefined;
		fetch('/api/jobs/hatchery/revisions/1').then((r) => r.json()).then((d) => fetch('/api/jobs/hatchery/revisions', { method: 'POST', headers: { 'Content-Type': 'application/json' },
			body: JSON.stringify({ base: 1, sheets: d.sheets.map((s) => ({ ...s, text: s.text.replace('hopper_band 0.5 kg', 'hopper_band 2 kg') })) }) })).then((r) => (window.done = r.status));
		return true;
	})()`))
	run(
		t,
		ctx,
		poll(`window.done === 201`),
		chromedp.Click(`//button[starts-with(., "Save as revision")]`),
		chromedp.WaitVisible(chromedp.CSS(`[data-testid=differences]`)),
		chromedp.Click(`//form//button[text()="Save"]`),
		chromedp.WaitVisible(`//*[@role="alert"][contains(., "Somebody kept revision 2")]`),
	)
	assert.Contains(t, textOf(t, ctx, `[role=alert] [data-testid=differences]`), "hopper_band")
	run(
		t,
		ctx,
		chromedp.Click(`//button[text()="Put mine onto theirs"]`),
		chromedp.WaitNotPresent(`//*[@role="alert"][contains(., "Somebody kept")]`),
		poll(`!document.querySelector('form button[type=submit]').disabled`),
		chromedp.Click(`//form//button[text()="Save"]`),
		chromedp.WaitVisible(`//*[@role="status"][contains(., "Saved as revision 3.")]`),
	)
	assert.True(
		t,
		value[bool](
			t,
			ctx,
			`(() => { window.sheets = undefined; fetch('/api/jobs/hatchery/revisions/3').then((r) => r.json()).then((d) => (window.sheets = d.sheets.map((s) => s.text).join('\n'))); return true; })()`,
		),
	)
	run(t, ctx, poll(`window.sheets !== undefined`))
	kept := value[string](t, ctx, `window.sheets`)
	assert.Contains(t, kept, "hopper_band 2 kg")
	assert.Contains(t, kept, "\"Hopper to be refilled\" 121 kg")
}

// No page has a violation of what axe-core checks, in either theme.
func TestAccessibility(t *testing.T) {
	axe, err := os.ReadFile("../node_modules/axe-core/axe.min.js")
	require.NoError(t, err)
	ctx := browser(t)
	address := startDemo(t)
	night := address.RawQuery
	check := func(what string) {
		t.Helper()
		_, err := chromedp.Run(ctx, chromedp.Evaluate[bool](string(axe)+`; window.violations = undefined;
			axe.run(document, { resultTypes: ['violations'] }).then((r) => (window.violations = r.violations.map((v) => v.id + ': ' + v.nodes.slice(0, 3).map((n) => n.html.slice(0, 160) + ' ' + (n.any[0] ?? n.all[0] ?? n.none[0])?.message).join(' | ')))); true`))
		require.NoError(t, err)
		run(t, ctx, poll(`window.violations !== undefined`))
		assert.Empty(t, value[[]string](t, ctx, `window.violations`), what)
	}
	for _, dark := range []bool{false, true} {
		address.Path, address.RawQuery = "/bench", night
		run(t, ctx, chromedp.Navigate(address.String()), chromedp.WaitVisible(change), drawn())
		if dark {
			run(t, ctx, chromedp.Click(`//button[normalize-space()="Dark"]`), chromedp.WaitVisible(chromedp.CSS(`html.dark`)))
		}
		check("bench")
		address.Path, address.RawQuery = "/points", "point=oxygen"
		run(t, ctx, chromedp.Navigate(address.String()), chromedp.WaitVisible(chromedp.CSS(`[data-opened=oxygen]`)))
		check("points")
		address.Path, address.RawQuery = "/rules", "rule=feeding"
		run(t, ctx, chromedp.Navigate(address.String()), rulesDrawn("feeding"))
		check("rules")
		run(t, ctx, chromedp.Click(`//button[starts-with(., "New rule")]`), chromedp.WaitVisible(`//button[contains(., "run-fail")]`))
		check("new rule")
	}
}
