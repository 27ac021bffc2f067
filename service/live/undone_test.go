//go:build undone

package live_test

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// An undoing takes one thing out of the program that keeps a plant safe.
type undoing struct{ what, file, old, new string }

var undoings = []undoing{
	{"a delay begins anew at a restart", "core/logic/restart.go", "\t\ts.restartCond(int32(i))\n", "\t\t_ = i\n"},
	{"a pause postpones delays", "core/logic/pause.go", "\t\ts.pauseCond(int32(i), d)\n", "\t\t_ = i\n"},
	{"what must be off is written until it is", "service/live/outputs.go", "case e.isOff(o, o.value) && e.mustStayOff(o):", "case false:"},
	{"what the plant turned off has its minimum off", "service/live/outputs.go",
		"case o.shortOff && e.isOff(o, o.has) && !e.run.S.Listening():", "case false:"},
	{"nothing is written for nothing", "service/live/outputs.go",
		"case o.hasKnown && o.point.Same(o.has, v) && (!o.ordered || o.confirmed): // nothing", "case false: // nothing"},
	{"the journal says what is found otherwise", "service/live/outputs.go", `		e.noteWrite(o, o.value, "it is written once more")` + "\n", ""},
	{"the journal says what is written later", "service/live/outputs.go",
		`		e.noteWrite(o, o.value, "decided at "+e.clockOf(o.decided))` + "\n", ""},
	{"an output that answers again stands as the plant has it", "service/live/devices.go",
		"\t\t\t\te.arrived.add(e.finding(o, x.Value))\n\t\t\t}\n\t\t} else if o != nil {\n", "\t\t\t}\n\t\t} else if o != nil {\n"},
	{"a lock comes back with its output", "service/live/opening.go", "	for i := range x.back {\n", "	for i := range x.back[:0] {\n"},
	{"a plan lists the wires that are left behind", "service/live/plans.go", "		if l.moves() {\n", "		if false {\n"},
	{"one pass writes an output once", "service/live/outputs.go",
		"func(before device.Write) bool { return before.Point == o.name }", "func(before device.Write) bool { return false }"},
	{"a start plays what entered since the checkpoint", "service/live/engine.go", "			err = since(s, c.Since)\n", ""},
	{"a hand does not pass its interlock", "core/logic/output.go", "	if d.cause == ByInterlock {\n", "	if false {\n"},
}

// Without any one of these, random evenings fail.
func TestUndone(t *testing.T) {
	root, err := filepath.Abs("../..")
	require.NoError(t, err)
	for _, u := range undoings {
		t.Run(u.what, func(t *testing.T) {
			file := filepath.Join(root, filepath.FromSlash(u.file))
			text, err := os.ReadFile(file)
			require.NoError(t, err)
			require.Equal(t, 1, strings.Count(string(text), u.old), "%s stands once in %s", u.old, u.file)
			folder := t.TempDir()
			changed := filepath.Join(folder, "changed.go")
			require.NoError(t, os.WriteFile(changed, []byte(strings.Replace(string(text), u.old, u.new, 1)), 0o600))
			overlay, err := json.Marshal(map[string]map[string]string{"Replace": {file: changed}})
			require.NoError(t, err)
			list := filepath.Join(folder, "overlay.json")
			require.NoError(t, os.WriteFile(list, overlay, 0o600))
			run := exec.Command("go", "test", "-overlay", list, "-vet", "off", "-count", "1", "-run", "TestEvenings", "-timeout", "40m", ".", "-args", "-evenings", "1000")
			out, err := run.CombinedOutput()
			assert.Error(t, err, "a thousand evenings notice nothing")
			assert.Contains(t, string(out), "--- FAIL: TestEvenings/", "%s", out)
			t.Logf("%s", out[:min(len(out), 600)])
		})
	}
}
