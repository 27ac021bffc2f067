package sheet_test

import (
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"rectura/core/sheet"
	"rectura/core/sheet/sheettest"
	"rectura/examples/patterns"
)

func source(text string) []sheet.Source { return []sheet.Source{{Name: "a.rct", Text: []byte(text)}} }

func hatchery(t *testing.T) []sheet.Source {
	t.Helper()
	sources, err := sheet.ReadSources(os.DirFS("../../examples/hatchery"))
	require.NoError(t, err)
	return sources
}

// Any declaration of any job can be renamed, and back, and the job stays one.
func TestRename(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		sources := source(sheettest.Job(t))
		job, found := sheet.Parse(sources)
		require.False(t, sheet.HasErrors(found))
		var names []string
		for _, d := range job.Files[0].Declarations {
			if d.Base().Name != "" {
				names = append(names, d.Base().Name)
			}
		}
		from := rapid.SampledFrom(names).Draw(t, "from")
		renamed, err := sheet.Rename(sources, from, "quite_another")
		require.NoError(t, err)
		again, after := sheet.Parse(renamed)
		require.Len(t, after, len(found), "%s → quite_another\n%v\n%s", from, after, renamed[0].Text)
		require.Len(t, again.Uses("quite_another"), len(job.Uses(from)))
		require.Nil(t, again.Lookup(from))
		back, err := sheet.Rename(renamed, "quite_another", from)
		require.NoError(t, err)
		require.Equal(t, string(sources[0].Text), string(back[0].Text))
	})
	renamed, err := sheet.Rename(hatchery(t), "oxygen", "o2")
	require.NoError(t, err)
	whole := ""
	for _, s := range renamed {
		whole += string(s.Text)
	}
	assert.Contains(t, whole, "expect o2.bad turns on within", "the alarm of an input is named after it")
	const proven = "job \"x\"\n\ninput k discrete\n\noutput pump\n  fail off\n  proven by k within 5 s\n\noutput horn\n  fail off\n\nrule r\n  on when k and not pump.unproven\n  call pump\n\nrule s\n  on when pump.unproven\n  call horn\n"
	for from, to := range map[string]string{"pump": "lift", "k": "flow"} {
		renamed, err := sheet.Rename([]sheet.Source{{Name: "a.rct", Text: []byte(proven)}}, from, to)
		require.NoError(t, err)
		want := strings.ReplaceAll(proven, "pump", "lift")
		if from == "k" {
			want = strings.NewReplacer("input k", "input flow", "by k", "by flow", "when k", "when flow").Replace(proven)
		}
		assert.Equal(t, want, string(renamed[0].Text))
	}
	for _, c := range []struct{ from, to, want string }{
		{"oxigen", "o2", "nothing is named oxigen"},
		{"oxygen", "blower", "the name blower is already that of the output at points.rct:"},
		{"oxygen", "O2", `"O2" is no name; a name has small letters`},
		{"oxygen", "between", `"between" is no name`},
		{"oxygen.bad", "x", "oxygen.bad is no name of its own"},
	} {
		_, err := sheet.Rename(hatchery(t), c.from, c.to)
		assert.ErrorContains(t, err, c.want)
	}
}

// What two people change in different declarations is put together; of what both
// change, each otherwise, theirs stays, and nothing is lost in silence.
func TestMerge(t *testing.T) {
	base := hatchery(t)
	change := func(pairs ...string) []sheet.Source {
		out := slices.Clone(base)
		for i := range out {
			text := string(out[i].Text)
			for k := 0; k < len(pairs); k += 2 {
				text = strings.Replace(text, pairs[k], pairs[k+1], 1)
			}
			out[i].Text = []byte(text)
		}
		return out
	}
	mine := change("for blower_delay", "for 50 s", "setpoint inflow_low \"Low inflow\" 25 L/s", "setpoint inflow_low \"Low inflow\" 24 L/s",
		"constant hopper_band 0.5 kg\n", "constant hopper_band 0.5 kg\n\nrule mine_only\n  on when not mains for 1 min\n  call beacon\n")
	theirs := change(
		"setpoint inflow_low \"Low inflow\" 25 L/s",
		"setpoint inflow_low \"Low inflow\" 26 L/s",
		"constant hopper_band 0.5 kg",
		"constant hopper_band 2 kg",
	)
	merged, conflicts := sheet.Merge(base, mine, theirs)
	_, found := sheet.Parse(merged)
	require.False(t, sheet.HasErrors(found), "%v", found)
	var names []string
	for _, c := range sheet.Difference(base, merged) {
		names = append(names, c.Keyword+" "+c.Name)
	}
	assert.ElementsMatch(t, []string{"rule standby_blower", "setpoint inflow_low", "constant hopper_band", "rule mine_only"}, names)
	require.Len(t, conflicts, 1)
	assert.Contains(t, conflicts[0].Before, "26 L/s", "theirs, which stays")
	assert.Contains(t, conflicts[0].After, "24 L/s")
	assert.Empty(t, sheet.Difference(base, base))

	same, conflicts := sheet.Merge(base, theirs, theirs)
	assert.Empty(t, conflicts)
	assert.Empty(t, sheet.Difference(theirs, same))
	gone := change("constant hopper_band 0.5 kg\n", "", " hysteresis hopper_band", " hysteresis 0.5 kg")
	merged, conflicts = sheet.Merge(base, gone, base)
	assert.Empty(t, conflicts)
	assert.Empty(t, sheet.Difference(gone, merged))
}

// Every pattern goes into the hatchery, by itself, after itself, and bound to the
// hatchery's points, and the job has no errors then.
func TestAdopt(t *testing.T) {
	all, err := patterns.All()
	require.NoError(t, err)
	for _, p := range all {
		sources := hatchery(t)
		for range 2 {
			job, _ := sheet.Parse(sources)
			text, names, err := sheet.Adopt(job, source(p.Sheet), nil)
			require.NoError(t, err, p.Name)
			require.NotEmpty(t, names)
			sources = append(sources, sheet.Source{Name: "z" + names[0] + ".rct", Text: []byte(text)})
			_, found := sheet.Parse(sources)
			require.False(t, sheet.HasErrors(found), "%s: %v\n%s", p.Name, found, text)
		}
	}
	job, _ := sheet.Parse(hatchery(t))
	p, err := patterns.Find("three-lamps")
	require.NoError(t, err)
	text, names, err := sheet.Adopt(job, source(p.Sheet), map[string]string{"oxygen": "oxygen", "amber_lamp": "beacon"})
	require.NoError(t, err)
	assert.Equal(t, []string{"oxygen_low_2", "oxygen_critical_2", "red_lamp", "green_lamp", "oxygen_lamps_2"}, names)
	assert.Contains(
		t,
		text,
		"bands oxygen_lamps_2 \"Oxygen lamps\" of oxygen\n  critical: below oxygen_critical_2 call red_lamp\n  low: below oxygen_low_2 call beacon\n",
	)
	for bound, want := range map[[2]string]string{
		{"oxygen", "mains"}:      "oxygen and mains are not both contacts",
		{"oxygen", "hopper"}:     "oxygen is in mg/L (concentration), and hopper is in kg (mass)",
		{"red_lamp", "oxygen"}:   "red_lamp is an output, and oxygen is none",
		{"red_lamp", "dosing"}:   "red_lamp and dosing are not both analog outputs",
		{"oxygen_low", "oxygen"}: "oxygen_low is no point that another could stand for",
	} {
		_, _, err := sheet.Adopt(job, source(p.Sheet), map[string]string{bound[0]: bound[1]})
		assert.EqualError(t, err, want)
	}
}

// The pieces of a sentence are the sentence, and each part is what stands at its
// place.
func TestPhrases(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) { checkPhrases(t, source(sheettest.Job(t))) })
	checkPhrases(t, hatchery(t))
	job, _ := sheet.Parse(hatchery(t))
	var parts []string
	for _, p := range job.Phrases(job.Rule("standby_blower")) {
		if p.Part != nil {
			parts = append(parts, string(p.Part.Kind)+" "+p.Part.Text)
		}
	}
	assert.Equal(t, []string{"name blower", "name oxygen", "op <", "name oxygen_low", "number 6.0", "name blower_delay", "number 45",
		"name oxygen", "op >", "name oxygen_low", "number 6.0", "name oxygen_band", "number 0.4", "number 2", "name mains"}, parts)
}

func checkPhrases(t require.TestingT, sources []sheet.Source) {
	job, _ := sheet.Parse(sources)
	for _, f := range job.Files {
		i := slices.IndexFunc(sources, func(s sheet.Source) bool { return s.Name == f.Name })
		lines := strings.Split(string(sources[i].Text), "\n")
		for _, d := range f.Declarations {
			var whole strings.Builder
			for _, p := range job.Phrases(d) {
				whole.WriteString(p.Text)
				if p.Part == nil {
					continue
				}
				at := p.Part.At
				require.Equal(t, f.Name == at.File || p.Part.Name != "", true)
				if at.File == f.Name {
					rest := string([]rune(lines[at.Line-1])[at.Column-1:])
					require.True(t, strings.HasPrefix(rest, p.Part.Text), "%s: %q, not %q", at, rest, p.Part.Text)
				}
			}
			require.Equal(t, job.Say(d), whole.String())
		}
	}
}

// Whatever the texts, nothing panics, and what is merged from nothing changed is
// theirs.
func FuzzEdit(f *testing.F) {
	f.Add("job \"x\"\ninput a discrete\n", "job \"x\"\ninput a discrete\nrule r\n  on when a\n", "a", "b")
	f.Add("job \"x\"\nsetpoint s 5 s\n", "setpoint s 6 s\nconstant s 7 s\nrule\n", "s", "é")
	f.Fuzz(func(t *testing.T, before, after, from, to string) {
		a, b := source(before), source(after)
		sheet.Difference(a, b)
		sheet.Merge(a, b, source(from))
		merged, conflicts := sheet.Merge(a, a, b)
		require.Empty(t, conflicts)
		require.Empty(t, sheet.Difference(b, merged))
		for _, s := range [][]sheet.Source{a, b} {
			job, found := sheet.Parse(s)
			if sheet.HasErrors(found) {
				continue
			}
			if renamed, err := sheet.Rename(s, from, to); err == nil {
				_, found := sheet.Parse(renamed)
				require.False(t, sheet.HasErrors(found), "%v", found)
			}
			sheet.Adopt(job, b, map[string]string{from: to}) // which can be adopted is not asked here
			for _, f := range job.Files {
				for _, d := range f.Declarations {
					require.Equal(t, job.Say(d) == "", len(job.Phrases(d)) == 0)
				}
			}
		}
	})
}
