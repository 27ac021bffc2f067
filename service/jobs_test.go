package service_test

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rectura/client"
	"rectura/core/sheet"
	"rectura/examples/hatchery"
)

// Jobs are kept apart, with their revisions, recordings and drafts.
func TestSeveralJobs(t *testing.T) {
	_, api, _, _ := start(t, t.TempDir())
	pushHatchery(t, api)
	require.NotNil(t, upload(t, api, "night.csv", night(t)).JSON201)
	made, err := api.PutJobWithResponse(t.Context(), "hut")
	require.NoError(t, err)
	require.Equal(t, http.StatusCreated, made.StatusCode())
	hut := client.NewRevision{Sheets: []client.Sheet{{Name: "hut.rct", Text: "job \"Hut\"\n"}}}
	for _, want := range []int{http.StatusCreated, http.StatusOK} { // the second is the same
		a, err := api.PushRevisionWithResponse(t.Context(), "hut", hut)
		require.NoError(t, err)
		require.Equal(t, want, a.StatusCode(), "%s", a.Body)
	}
	jobs, err := api.ListJobsWithResponse(t.Context())
	require.NoError(t, err)
	var listed []string
	for _, j := range *jobs.JSON200 {
		listed = append(listed, j.Name+": "+j.Title)
	}
	assert.Equal(t, []string{"hatchery: Fennick trout hatchery", "hut: Hut"}, listed)

	for _, c := range []struct {
		job       string
		revision  int64
		recording int64
		detail    string
	}{
		{"hut", 1, 1, "recording 1: not found"},
		{"hut", 2, 1, "revision 2: not found"},
		{"weir", 1, 1, "No job here is named weir."},
	} {
		a, err := api.ReplayWithResponse(t.Context(), c.job, client.ReplayRequest{Revision: c.revision, Recording: c.recording})
		require.NoError(t, err)
		assert.Equal(t, c.detail, problemOf(t, http.StatusNotFound, a.Body))
	}
	gone, err := api.DeleteJobWithResponse(t.Context(), "hut", nil)
	require.NoError(t, err)
	require.Equal(t, http.StatusOK, gone.StatusCode())
	left, err := api.ListRevisionsWithResponse(t.Context(), "hut")
	require.NoError(t, err)
	require.Equal(t, http.StatusNotFound, left.StatusCode())
	played, err := api.ReplayWithResponse(t.Context(), fennick, client.ReplayRequest{Revision: 1, Recording: 1})
	require.NoError(t, err)
	require.NotNil(t, played.JSON200)
}

// The service plays the trials of a revision with the recordings that were pushed with
// it, and keeps what came of them.
func TestTrialsOfTheService(t *testing.T) {
	_, api, _, _ := start(t, t.TempDir())
	sources, err := sheet.ReadSources(hatchery.Files)
	require.NoError(t, err)
	body := client.NewRevision{Plays: &[]client.Plays{}}
	for _, s := range sources {
		body.Sheets = append(body.Sheets, client.Sheet{Name: s.Name, Text: string(s.Text)})
	}
	sums := map[string]string{}
	for _, name := range []string{"night.csv", "pump-trip.csv", "broken-loop.csv"} { // hopper.csv is not sent
		f, err := hatchery.Files.Open("recordings/" + name)
		require.NoError(t, err)
		text, err := io.ReadAll(f)
		require.NoError(t, err)
		sum := sha256.Sum256(text)
		sums[name] = hex.EncodeToString(sum[:])
		kept := upload(t, api, name, bytes.NewReader(text)).JSON201
		require.NotNil(t, kept)
		require.Equal(t, sums[name], *kept.Checksum)
		*body.Plays = append(*body.Plays, client.Plays{Path: "recordings/" + name, Checksum: sums[name]})
	}
	pushed, err := api.PushRevisionWithResponse(t.Context(), fennick, body)
	require.NoError(t, err)
	require.NotNil(t, pushed.JSON201, "%s", pushed.Body)

	before, err := api.ListTrialsWithResponse(t.Context(), fennick, &client.ListTrialsParams{Revision: 1})
	require.NoError(t, err)
	require.Len(t, *before.JSON200, 6)
	assert.Nil(t, (*before.JSON200)[0].Passed)
	played, err := api.PlayTrialsWithResponse(t.Context(), fennick, client.TrialsRequest{Revision: 1})
	require.NoError(t, err)
	require.NotNil(t, played.JSON200, "%s", played.Body)
	after, err := api.ListTrialsWithResponse(t.Context(), fennick, &client.ListTrialsParams{Revision: 1})
	require.NoError(t, err)
	missing := 0
	for i, trial := range *after.JSON200 {
		if trial.Passed == nil {
			missing++
			assert.Equal(t, "Its recording recordings/hopper.csv is not kept here; push the job with it.", *(*played.JSON200)[i].Problem)
			continue
		}
		assert.True(t, *trial.Passed, trial.Trial)
		assert.Equal(t, (*played.JSON200)[i], trial)
		for _, e := range trial.Expectations {
			assert.True(t, *e.Passed)
			assert.NotEmpty(t, *e.Found)
		}
	}
	assert.Equal(t, 1, missing)
	one := []string{"no_such"}
	refused, err := api.PlayTrialsWithResponse(t.Context(), fennick, client.TrialsRequest{Revision: 1, Trials: &one})
	require.NoError(t, err)
	assert.Equal(t, "Revision 1 has no trial named no_such.", problemOf(t, http.StatusNotFound, refused.Body))

	// A revision of the console keeps what the trials play; another one's recording is another.
	body.Sheets[0].Text += "# a note\n"
	body.Plays = nil
	pushed, err = api.PushRevisionWithResponse(t.Context(), fennick, body)
	require.NoError(t, err)
	require.NotNil(t, pushed.JSON201)
	again, err := api.ListTrialsWithResponse(t.Context(), fennick, &client.ListTrialsParams{Revision: 2})
	require.NoError(t, err)
	assert.Equal(t, int64(1), *(*again.JSON200)[0].Plays)
	assert.Nil(t, (*again.JSON200)[0].Passed)
	body.Plays = &[]client.Plays{{Path: "recordings/night.csv", Checksum: strings.Repeat("0", 64)}}
	unknown, err := api.PushRevisionWithResponse(t.Context(), fennick, body)
	require.NoError(t, err)
	assert.Contains(t, problemOf(t, http.StatusUnprocessableEntity, unknown.Body), "is not kept here; send it first.")

	renamed, err := api.RenameRecordingWithResponse(t.Context(), fennick, 1, client.RecordingName{Name: " oxygen dip.csv "})
	require.NoError(t, err)
	assert.Equal(t, "oxygen dip.csv", renamed.JSON200.Name)
	taken, err := api.RenameRecordingWithResponse(t.Context(), fennick, 1, client.RecordingName{Name: "pump-trip.csv"})
	require.NoError(t, err)
	assert.Equal(t, "There is a recording named pump-trip.csv already; choose another name.", problemOf(t, http.StatusConflict, taken.Body))
	needed, err := api.DeleteRecordingWithResponse(t.Context(), fennick, 1)
	require.NoError(t, err)
	assert.Equal(
		t,
		"Deleting recording 1: trials of 2 revisions play it, the newest of which is 2: it is needed.",
		problemOf(t, http.StatusConflict, needed.Body),
	)
}

// What editors offer comes from the parser.
func TestLanguage(t *testing.T) {
	_, api, _, _ := start(t, t.TempDir())
	a, err := api.GetLanguageWithResponse(t.Context())
	require.NoError(t, err)
	require.NotNil(t, a.JSON200)
	assert.Len(t, a.JSON200.Declarations, 15)
	assert.Contains(t, a.JSON200.Words, "unacknowledged")
	assert.Contains(t, a.JSON200.Units, "mg/L")
}

// A data folder of a program that kept one job is gone on with.
func TestTheStoreHasAnotherName(t *testing.T) {
	data := t.TempDir()
	_, api, _, stop := start(t, data)
	pushHatchery(t, api)
	stop()
	require.NoError(t, os.Rename(filepath.Join(data, "bench.db"), filepath.Join(data, "rectura.db")))
	_, api, _, _ = start(t, data)
	a, err := api.GetRevisionWithResponse(t.Context(), fennick, 1)
	require.NoError(t, err)
	require.NotNil(t, a.JSON200)
	_, err = os.Stat(filepath.Join(data, "rectura.db"))
	require.ErrorIs(t, err, os.ErrNotExist)
}
