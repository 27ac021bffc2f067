package service_test

import (
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rectura/client"
	"rectura/core/sheet"
)

func hatcherySheets(t *testing.T) []client.Sheet {
	sources, err := sheet.ReadSources(os.DirFS("../examples/hatchery"))
	require.NoError(t, err)
	var all []client.Sheet
	for _, s := range sources {
		all = append(all, client.Sheet{Name: s.Name, Text: string(s.Text)})
	}
	return all
}

func edited(sheets []client.Sheet, from, to string) []client.Sheet {
	out := append([]client.Sheet{}, sheets...)
	for i := range out {
		out[i].Text = strings.Replace(out[i].Text, from, to, 1)
	}
	return out
}

// A job that is being written: checked, drawn, tried, renamed, put together.
func TestWriting(t *testing.T) {
	_, api, _, _ := start(t, t.TempDir())
	pushHatchery(t, api)
	upload(t, api, "night.csv", night(t))
	sheets, base := hatcherySheets(t), int64(1)

	rule, yes := "standby_blower", true
	changed := edited(sheets, "oxygen_low \"Low oxygen\" 6.0 mg/L", "oxygen_low \"Low oxygen\" 5.8 mg/L")
	checked, err := api.CheckWithResponse(
		t.Context(),
		fennick,
		client.CheckRequest{Sheets: changed, Base: &base, Format: &yes, Play: &client.PlayRequest{Recording: 1, Rule: &rule, Pixels: 500}},
	)
	require.NoError(t, err)
	require.NotNil(t, checked.JSON200, "%s", checked.Body)
	v := checked.JSON200
	assert.Empty(t, v.Findings)
	require.Len(t, v.Changes, 1)
	assert.Equal(t, "setpoint", v.Changes[0].Keyword)
	assert.Contains(t, v.Changes[0].After, "5.8 mg/L")
	require.Len(t, v.Play.Panels, 1, "the rule has one signal")
	assert.Equal(t, "oxygen", v.Play.Panels[0].Panel.Input)
	assert.Len(t, v.Play.Panels[0].Series.T, 500)
	var lanes, parts []string
	for _, l := range v.Play.Lanes {
		lanes = append(lanes, l.Name)
	}
	assert.Equal(t, []string{"mains", "standby_blower", "blower"}, lanes)
	for _, p := range *v.Rules[0].Phrases {
		if p.Part != nil {
			at := (*v.Formatted)[1].Text
			line := []rune(strings.Split(at, "\n")[p.Part.Line-1])
			require.True(t, strings.HasPrefix(string(line[p.Part.Column-1:]), p.Part.Text))
			parts = append(parts, p.Part.Text)
		}
	}
	assert.Equal(t, []string{"blower", "oxygen", "<", "oxygen_low", "5.8"}, parts[:5])
	for _, d := range v.Declarations {
		if d.Name == rule {
			lines := strings.Split(changed[1].Text, "\n")
			assert.Equal(
				t,
				[]string{"rule standby_blower \"Standby blower on low oxygen\"", "  call blower"},
				[]string{lines[d.From-1], lines[d.To-1]},
			)
		}
		if d.Name == "oxygen_lamps" {
			assert.True(t, strings.HasPrefix(strings.Split(changed[1].Text, "\n")[d.From-1], "# Low oxygen lights"), "its comment is its own")
		}
	}

	broken := edited(sheets, "call blower", "call blowr")
	wrong, err := api.CheckWithResponse(
		t.Context(),
		fennick,
		client.CheckRequest{Sheets: broken, Play: &client.PlayRequest{Recording: 1, Pixels: 100}},
	)
	require.NoError(t, err)
	require.Len(t, wrong.JSON200.Findings, 1)
	assert.Equal(t, "unknown-name", wrong.JSON200.Findings[0].Code)
	assert.Nil(t, wrong.JSON200.Play)
	assert.NotEmpty(t, wrong.JSON200.Declarations)

	misspelt := "standby_blowr"
	wrong, err = api.CheckWithResponse(t.Context(), fennick,
		client.CheckRequest{Sheets: sheets, Play: &client.PlayRequest{Recording: 1, Rule: &misspelt, Pixels: 100}})
	require.NoError(t, err)
	assert.Empty(t, wrong.JSON200.Play.Panels, "not everything is drawn for a rule that there is not")

	tried, err := api.TryWithResponse(
		t.Context(),
		fennick,
		client.TryRequest{Sheets: sheets, Rule: rule, Values: map[string]string{"oxygen": "5.9 mg/L", "mains": "on"}},
	)
	require.NoError(t, err)
	assert.Equal(
		t,
		[]client.Stand{
			{Name: rule, Kind: "rule", State: "on", Because: "oxygen 5.9 mg/L < oxygen_low 6 mg/L for 45 s"},
			{Name: "blower", Kind: "output", State: "on", Because: "called by standby_blower"},
		},
		tried.JSON200.States,
	)

	renamed, err := api.RenameWithResponse(t.Context(), fennick, client.RenameRequest{Sheets: sheets, From: "oxygen", To: "raceway_oxygen"})
	require.NoError(t, err)
	assert.NotContains(t, renamed.JSON200.Sheets[1].Text, "on when oxygen <")
	assert.Contains(t, renamed.JSON200.Sheets[2].Text, "expect raceway_oxygen between")
	refused, err := api.RenameWithResponse(t.Context(), fennick, client.RenameRequest{Sheets: sheets, From: "oxygen", To: "blower"})
	require.NoError(t, err)
	assert.Contains(t, problemOf(t, 422, refused.Body), "the name blower is already that of the output at points.rct:")

	patterns, err := api.ListPatternsWithResponse(t.Context())
	require.NoError(t, err)
	assert.Len(t, *patterns.JSON200, 19)
	adopted, err := api.AdoptWithResponse(
		t.Context(),
		fennick,
		client.AdoptRequest{Sheets: sheets, Pattern: "watchdog", Bound: &map[string]string{"ph": "ph"}},
	)
	require.NoError(t, err)
	assert.Equal(t, []string{"ph_high", "acid_pump", "meter_lamp", "dose_acid", "meter_silent"}, adopted.JSON200.Names)
	assert.Contains(t, adopted.JSON200.Sheets[1].Text, "rule meter_silent \"The meter is silent\"\n  on when ph is bad\n  call meter_lamp\n")
}

// Two people save at once: the second is told, sees the difference, and puts hers
// onto his. What is not finished is kept as a draft.
func TestTwoWriters(t *testing.T) {
	_, api, _, _ := start(t, t.TempDir())
	pushHatchery(t, api)
	sheets, base := hatcherySheets(t), int64(1)
	his := edited(sheets, "hopper_band 0.5 kg", "hopper_band 2 kg")
	hers := edited(sheets, "for blower_delay", "for 50 s")
	first, err := api.PushRevisionWithResponse(t.Context(), fennick, client.NewRevision{Sheets: his, Base: &base})
	require.NoError(t, err)
	require.Equal(t, int64(2), first.JSON201.Number)
	second, err := api.PushRevisionWithResponse(t.Context(), fennick, client.NewRevision{Sheets: hers, Base: &base})
	require.NoError(t, err)
	assert.Contains(t, problemOf(t, 409, second.Body), "Somebody has kept a newer revision since you began from revision 1.")
	difference, err := api.GetDifferenceWithResponse(t.Context(), fennick, &client.GetDifferenceParams{From: 1, To: 2})
	require.NoError(t, err)
	require.Len(t, *difference.JSON200, 1)
	assert.Equal(t, "hopper_band", (*difference.JSON200)[0].Name)
	unread, err := api.MergeWithResponse(t.Context(), fennick, client.MergeRequest{Sheets: edited(hers, "call blower", "call"), Base: 1})
	require.NoError(t, err)
	assert.Contains(t, problemOf(t, 422, unread.Body), "mend them before it is put onto another revision")
	merged, err := api.MergeWithResponse(t.Context(), fennick, client.MergeRequest{Sheets: hers, Base: 1})
	require.NoError(t, err)
	assert.Empty(t, merged.JSON200.Conflicts)
	assert.Equal(t, int64(2), merged.JSON200.Onto)
	third, err := api.PushRevisionWithResponse(
		t.Context(),
		fennick,
		client.NewRevision{Sheets: merged.JSON200.Sheets, Base: &merged.JSON200.Onto},
	)
	require.NoError(t, err)
	require.Equal(t, int64(3), third.JSON201.Number)
	both, err := api.GetDifferenceWithResponse(t.Context(), fennick, &client.GetDifferenceParams{From: 1, To: 3})
	require.NoError(t, err)
	assert.Len(t, *both.JSON200, 2, "his constant and her rule")

	draft, err := api.GetDraftWithResponse(t.Context(), fennick, "somebody-1")
	require.NoError(t, err)
	assert.Equal(t, 204, draft.StatusCode())
	broken := edited(sheets, "call blower", "call")
	for range 2 {
		put, err := api.PutDraftWithResponse(t.Context(), fennick, "somebody-1", client.NewDraft{Base: 1, Sheets: broken})
		require.NoError(t, err)
		require.Equal(t, 204, put.StatusCode(), "%s", put.Body)
	}
	draft, err = api.GetDraftWithResponse(t.Context(), fennick, "somebody-1")
	require.NoError(t, err)
	assert.Equal(t, broken, draft.JSON200.Sheets)
	gone, err := api.DeleteDraftWithResponse(t.Context(), fennick, "somebody-1")
	require.NoError(t, err)
	require.Equal(t, 204, gone.StatusCode())
	draft, err = api.GetDraftWithResponse(t.Context(), fennick, "somebody-1")
	require.NoError(t, err)
	assert.Equal(t, 204, draft.StatusCode())
	short, err := api.PutDraftWithResponse(t.Context(), fennick, "me", client.NewDraft{Base: 1, Sheets: sheets})
	require.NoError(t, err)
	assert.Contains(t, problemOf(t, 422, short.Body), "minimum string length is 8")
}
