//go:build e2e

package e2e

import (
	"bytes"
	"encoding/base64"
	"html"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"rectura/cli"
)

// TestPicturesOfCommands takes pictures of what commands print, as a terminal
// shows it. It runs only when pictures are asked for; what the commands print
// is tested beside them.
func TestPicturesOfCommands(t *testing.T) {
	if *shots == "" {
		t.Skip("no pictures were asked for")
	}
	t.Chdir("../..")
	wrong := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(wrong, "raceway.rct"), []byte(`job "Raceway 2"

input oxygen "Raceway 2 dissolved oxygen"
  scale 0..4095 counts to 0..20 mA
  scale 4..20 V to 0..20 mg/L
  helthy 3.6..21 mA

output blower

rule standby
  on when oxigen < 6 mgl for 45 s
  off when oxygen > 6.4 mg/L and mains or hatch
  call blower
`), 0o600))
	for name, commands := range map[string][]string{
		"cli-scale.png":  {"scale examples/hatchery oxygen 12mA 2048counts 10mg/L 2.9mA 22mA", "check examples/hatchery", "registers examples/hatchery"},
		"cli-show.png":   {"show examples/hatchery oxygen filter_dp hatch_open oxygen_low oxygen_band blower beacon standby_blower emergency_oxygen drum_backwash"},
		"cli-replay.png": {"replay examples/hatchery night --set oxygen_low=5,5.5,6mg/L", "replay examples/hatchery night --from 02:10 --to 02:50"},
		"cli-why.png":    {"why examples/hatchery night blower --at 02:33:00", "try examples/hatchery oxygen=5.9,6.0,6.1 mains=on", "trip examples/hatchery oxygen_lamps"},
		"cli-check.png":  {"check " + wrong, "trial examples/hatchery hopper_chatter broken_loop", "new --list"},
		"cli-teach.png":  {"teach examples/hatchery inflow --recording night --normal 22:10..02:10 --trouble 02:20..02:50", "calibrate examples/hatchery oxygen 0.12mg/L=0mg/L 9.40mg/L=9.10mg/L --dry-run", "scale examples/hatchery temperature --from 0degC --to 20degC --step 5degC"},
	} {
		var page strings.Builder
		for _, command := range commands {
			var out bytes.Buffer
			cli.Run(t.Context(), strings.Fields(command), &out, &out)
			text := strings.ReplaceAll("$ rectura "+command+"\n"+out.String()+"\n", wrong, "raceway2")
			page.WriteString(text)
		}
		terminal(t, page.String(), name)
	}
}

// terminal takes a picture of what commands print, as a terminal shows it.
func terminal(t *testing.T, text, name string) {
	if *shots == "" {
		return
	}
	ctx := browser(t)
	document := `<meta charset="utf-8"><body style="margin:0;background:#211f1b;color:#ece8dd"><pre style="font:12px/1.45 'DejaVu Sans Mono',monospace;padding:16px;margin:0">` + html.EscapeString(
		text,
	)
	run(t, ctx, chromedp.Navigate("data:text/html;base64,"+base64.StdEncoding.EncodeToString([]byte(document))))
	picture(t, ctx, name)
}
