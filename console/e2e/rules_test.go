//go:build e2e

package e2e

import (
	"context"
	"strings"
	"testing"

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
		_, err := chromedp.Poll[bool](`!!document.querySelector('[data-rule=` + rule + `] [data-testid=picture] svg[role=img]') && !!document.querySelector('[data-rule=` + rule + `] .cm-content') && !document.body.textContent.includes('playing…')`)(ctx, target)
		return err
	})
}

// value of an expression in the page.
func value[T any](t *testing.T, ctx context.Context, expression string) T {
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
	before := value[string](t, ctx, `document.querySelector('[data-testid=picture] svg[role=img]').getAttribute('aria-label')`)

	number := chromedp.CSS(`input[aria-label="Low oxygen, in mg/L"]`)
	run(t, ctx, chromedp.Focus(number), chromedp.SendKeys(number, strings.Repeat(kb.ArrowUp, 14)),
		poll(`document.querySelector('[data-point=trips]').textContent.includes('7.4')`), rulesDrawn("standby_blower"))
	after := value[string](t, ctx, `document.querySelector('[data-testid=picture] svg[role=img]').getAttribute('aria-label')`)
	assert.NotEqual(t, before, after, "it would have tripped at another time")
	assert.Contains(t, after, "standby_blower comes on at ")
	run(t, ctx, chromedp.Click(`//button[starts-with(., "Save as revision 2")]`), chromedp.WaitVisible(chromedp.CSS(`[data-testid=differences]`)))
	difference := textOf(t, ctx, `[data-testid=differences]`)
	assert.Contains(t, difference, "oxygen_low setpoint changed")
	assert.Contains(t, difference, "− setpoint oxygen_low \"Low oxygen\" 6.0 mg/L")
	assert.Contains(t, difference, "+ setpoint oxygen_low \"Low oxygen\" 7.4 mg/L")
	assert.NotContains(t, difference, "standby_blower", "nothing else is different")
	picture(t, ctx, "rules-save.png")
	run(t, ctx, chromedp.Click(`//form//button[text()="Save"]`), chromedp.WaitVisible(`//*[@role="status"][contains(., "Saved as revision 2.")]`), chromedp.WaitVisible(`//small[contains(., "revision 2")]`))
}
