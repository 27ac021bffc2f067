package cli

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"path"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"rectura/client"
	"rectura/core/logic"
	"rectura/core/sheet"
	"rectura/service/store"
)

func newPush() *cobra.Command {
	var r remote
	var note string
	c := &cobra.Command{
		Use:   "push JOB",
		Short: "Keep a job in the service as its next revision",
		Long: `Keeps a job's sheets in the service as its next revision, with the recordings that
its trials play; those that are there already are not sent again. Where the newest
revision is the same, no other is made. The job is named after its folder unless
--job says otherwise.`,
		Example:           "  rectura push examples/hatchery --note 'low oxygen raised after the cold week'\n  rectura push . --job hatchery",
		ValidArgsFunction: completeJob(nil),
		RunE:              func(c *cobra.Command, args []string) error { return runPush(c, args[0], r, note) },
	}
	r.addFlags(c.Flags())
	c.Flags().Lookup("job").Usage = "the short `name` of the job (default the folder's name)"
	c.Flags().StringVar(&note, "note", "", "what is different, and why")
	return c
}

func runPush(c *cobra.Command, folder string, r remote, note string) error {
	sources, err := readSheets(folder)
	if err != nil {
		return err
	}
	if r.job == "" {
		whole, err := filepath.Abs(folder)
		if err != nil {
			return fmt.Errorf("naming the job after its folder: %w", err)
		}
		r.job = store.ShortName(filepath.Base(whole))
	}
	api, err := newClient(r.server)
	if err != nil {
		return err
	}
	files, err := jobFolder(folder)
	if err != nil {
		return err
	}
	p := &pusher{
		api:    api,
		job:    r.job,
		folder: files,
		told:   func(format string, args ...any) { fmt.Fprintf(c.ErrOrStderr(), format+"\n", args...) },
	}
	revision, made, err := p.push(c.Context(), sources, note)
	if err != nil {
		return pushRefused(c.ErrOrStderr(), folder, sources, err)
	}
	if !made {
		fmt.Fprintf(c.OutOrStdout(), "%s: revision %d of %s is the same already\n", revision.Title, revision.Number, p.job)
		return nil
	}
	fmt.Fprintf(c.OutOrStdout(), "%s: revision %d of %s\n", revision.Title, revision.Number, p.job)
	return nil
}

// A pusher takes a job's folder to the service.
type pusher struct {
	api    *client.ClientWithResponses
	job    string
	folder fs.FS
	told   func(format string, args ...any)

	zone string
	kept []client.Recording
}

// push keeps the recordings that the job's trials play, as far as they are not there,
// and then the sheets. It tells whether a revision was made.
func (p *pusher) push(ctx context.Context, sources []sheet.Source, note string) (*client.Revision, bool, error) {
	job, _, found := logic.Check(sources)
	if sheet.HasErrors(found) {
		return nil, false, &refusal{
			client.Problem{Title: http.StatusText(http.StatusUnprocessableEntity), Detail: new(inErrors), Findings: new(findingsOf(found))},
		}
	}
	a, err := p.api.PutJobWithResponse(ctx, p.job)
	if err := answered(a, err, http.StatusOK, http.StatusCreated); err != nil {
		return nil, false, err
	}
	plays, err := p.recordings(ctx, job)
	if err != nil {
		return nil, false, err
	}
	body := client.NewRevision{Note: &note, Plays: &plays}
	for _, s := range sources {
		body.Sheets = append(body.Sheets, client.Sheet{Name: s.Name, Text: string(s.Text)})
	}
	b, err := p.api.PushRevisionWithResponse(ctx, p.job, body)
	if err := answered(b, err, http.StatusOK, http.StatusCreated); err != nil {
		return nil, false, err
	}
	if b.JSON200 != nil {
		return b.JSON200, false, nil
	}
	return b.JSON201, true, nil
}

const inErrors = "The job has errors and was not kept; mend them and push again."

// recordings sends the recordings that trials play, as far as they are not kept, and
// gives their checksums.
func (p *pusher) recordings(ctx context.Context, job *sheet.Job) ([]client.Plays, error) {
	a, err := p.api.ListRecordingsWithResponse(ctx, p.job)
	if err := answered(a, err, http.StatusOK); err != nil {
		return nil, err
	}
	p.kept, p.zone = *a.JSON200, job.Timezone
	plays, seen := []client.Plays{}, map[string]bool{}
	for _, t := range job.Trials {
		file := t.Play.Text
		if seen[file] {
			continue
		}
		seen[file] = true
		sum, err := p.recording(ctx, file)
		switch {
		case errors.Is(err, fs.ErrNotExist) || errors.Is(err, fs.ErrInvalid):
			p.told("trial %s: its recording %s is not in the job's folder, so the service cannot play it", t.Name, file)
		case err != nil:
			return nil, fmt.Errorf("trial %s: %w", t.Name, err)
		default:
			plays = append(plays, client.Plays{Path: file, Checksum: sum})
		}
	}
	return plays, nil
}

// recording makes sure that a file is kept, and gives its checksum.
func (p *pusher) recording(ctx context.Context, file string) (checksum string, err error) {
	f, err := p.folder.Open(path.Clean(filepath.ToSlash(file)))
	if err != nil {
		return "", err
	}
	defer func() { err = errors.Join(err, f.Close()) }()
	h := sha256.New()
	if _, err := io.Copy(h, f); err != nil {
		return "", fmt.Errorf("reading %s: %w", file, err)
	}
	checksum = hex.EncodeToString(h.Sum(nil))
	name := path.Base(filepath.ToSlash(file))
	for _, r := range p.kept {
		if r.Checksum != nil && *r.Checksum == checksum {
			return checksum, nil
		}
		if r.Name == name { // another file
			ext := path.Ext(name)
			name = strings.TrimSuffix(name, ext) + " (" + checksum[:7] + ")" + ext
		}
	}
	again, err := p.folder.Open(path.Clean(filepath.ToSlash(file)))
	if err != nil {
		return "", err
	}
	params := readingFlags{zone: p.zone}.params(name)
	a, err := p.api.UploadRecordingWithBodyWithResponse(ctx, p.job, params, "application/octet-stream", again)
	if err := answered(a, err, http.StatusCreated); err != nil {
		return "", fmt.Errorf("sending %s: %w", file, err)
	}
	p.kept = append(p.kept, *a.JSON201)
	p.told("%s: recording %d, %d readings", name, a.JSON201.Id, a.JSON201.Samples)
	return checksum, nil
}

func findingsOf(found []sheet.Finding) []client.Finding {
	all := make([]client.Finding, len(found))
	for i, f := range found {
		all[i] = client.Finding{File: f.File, Line: f.Line, Column: f.Column, Severity: string(f.Severity), Code: f.Code, Text: f.Text}
	}
	return all
}

// pushRefused shows the findings for which a job was not kept.
func pushRefused(w io.Writer, folder string, sources []sheet.Source, err error) error {
	var r *refusal
	if !errors.As(err, &r) || r.Findings == nil {
		return err
	}
	var found []sheet.Finding
	for _, f := range *r.Findings {
		found = append(
			found,
			sheet.Finding{
				Place:    sheet.Place{File: f.File, Line: f.Line, Column: f.Column},
				Severity: sheet.Severity(f.Severity),
				Code:     f.Code,
				Text:     f.Text,
			},
		)
	}
	printFindings(w, folder, sources, found)
	fmt.Fprintf(w, "rectura: %v\n", err)
	return errNo
}
