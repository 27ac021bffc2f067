package cli

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"reflect"
	"strconv"
	"time"

	"github.com/spf13/cobra"

	"rectura/client"
	"rectura/core/sheet"
	"rectura/core/unit"
	"rectura/service"
)

// serverVariable names the environment variable that says where the service is.
const serverVariable = "RECTURA_SERVER"

func addServer(c *cobra.Command, server *string) {
	c.Flags().StringVar(server, "server", "", "the service's `URL` (default $"+serverVariable+", else http://"+service.DefaultListen+")")
}

func newClient(server string) (*client.ClientWithResponses, error) {
	server = cmp.Or(server, os.Getenv(serverVariable), "http://"+service.DefaultListen)
	api, err := client.NewClientWithResponses(server+"/api", client.WithHTTPClient(&http.Client{Timeout: 10 * time.Minute}))
	if err != nil {
		return nil, fmt.Errorf("the service's URL %s: %w", server, err)
	}
	return api, nil
}

// An answer is what the generated client returns for every call.
type answer interface{ StatusCode() int }

// answered makes an error of a call that failed or was refused. The problem
// that the service sent says why.
func answered(a answer, err error, want int) error {
	if err != nil {
		return fmt.Errorf("asking the service; is it running? %w", err)
	}
	if a.StatusCode() == want {
		return nil
	}
	body, _ := reflect.Indirect(reflect.ValueOf(a)).FieldByName("Body").Interface().([]byte) // every answer has one
	var p client.Problem
	if json.Unmarshal(body, &p) != nil || p.Title == "" {
		return fmt.Errorf("the service answered with status %d; is it Rectura that listens there?", a.StatusCode())
	}
	return &refusal{p}
}

// A refusal is a problem that the service answered with.
type refusal struct{ client.Problem }

func (r *refusal) Error() string {
	if r.Detail == nil {
		return r.Title
	}
	return *r.Detail
}

func newPush() *cobra.Command {
	var server, note string
	c := &cobra.Command{
		Use:               "push JOB",
		Short:             "Keep a job in the service as its next revision",
		Example:           "  rectura push examples/hatchery --note 'low oxygen raised after the cold week'",
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: completeJob(nil),
		RunE: func(c *cobra.Command, args []string) error {
			sources, err := readSheets(args[0])
			if err != nil {
				return err
			}
			api, err := newClient(server)
			if err != nil {
				return err
			}
			r, err := push(c.Context(), api, sources, note)
			if err != nil {
				return pushRefused(c.ErrOrStderr(), args[0], sources, err)
			}
			fmt.Fprintf(c.OutOrStdout(), "%s: revision %d\n", r.Title, r.Number)
			return nil
		},
	}
	addServer(c, &server)
	c.Flags().StringVar(&note, "note", "", "what is different, and why")
	return c
}

func push(ctx context.Context, api *client.ClientWithResponses, sources []sheet.Source, note string) (*client.Revision, error) {
	body := client.NewRevision{Note: &note}
	for _, s := range sources {
		body.Sheets = append(body.Sheets, client.Sheet{Name: s.Name, Text: string(s.Text)})
	}
	a, err := api.PushRevisionWithResponse(ctx, body)
	if err := answered(a, err, http.StatusCreated); err != nil {
		return nil, err
	}
	return a.JSON201, nil
}

// pushRefused shows the findings for which the service refused a job.
func pushRefused(w io.Writer, folder string, sources []sheet.Source, err error) error {
	var r *refusal
	if !errors.As(err, &r) || r.Findings == nil {
		return err
	}
	var found []sheet.Finding
	for _, f := range *r.Findings {
		found = append(found, sheet.Finding{Place: sheet.Place{File: f.File, Line: f.Line, Column: f.Column}, Severity: sheet.Severity(f.Severity), Code: f.Code, Text: f.Text})
	}
	printFindings(w, folder, sources, found)
	fmt.Fprintf(w, "rectura: %v\n", err)
	return errNo
}

func newRevisions() *cobra.Command {
	var server, format string
	c := &cobra.Command{
		Use:     "revisions",
		Short:   "List the revisions in the service, the newest first",
		Example: "  rectura revisions",
		Args:    cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			api, err := newClient(server)
			if err != nil {
				return err
			}
			a, err := api.ListRevisionsWithResponse(c.Context())
			if err := answered(a, err, http.StatusOK); err != nil {
				return err
			}
			l := list{heads: []string{"REVISION", "KEPT", "JOB", "INPUTS", "OUTPUTS", "RULES", "WARNINGS", "NOTE"}, numbers: []int{1, 4, 5, 6, 7}}
			for _, r := range *a.JSON200 {
				l.add(strconv.FormatInt(r.Number, 10), r.Created.Local().Format("2006-01-02 15:04:05"), r.Title, strconv.Itoa(r.Inputs), strconv.Itoa(r.Outputs),
					strconv.Itoa(r.Rules), strconv.Itoa(r.Warnings), r.Note)
			}
			return l.write(c, format, *a.JSON200)
		},
	}
	addServer(c, &server)
	addFormat(c, &format)
	return c
}

// write lists in the format asked for; data is what JSON shows.
func (l *list) write(c *cobra.Command, format string, data any) error {
	switch format {
	case "json":
		return writeJSON(c.OutOrStdout(), data)
	case "csv":
		return l.csv(c.OutOrStdout())
	}
	if len(l.rows) == 0 {
		fmt.Fprintln(c.OutOrStdout(), "None yet.")
		return nil
	}
	l.table(c.OutOrStdout())
	return nil
}

func newRecordings() *cobra.Command {
	var server, format string
	var f readingFlags
	c := &cobra.Command{
		Use:   "recordings [FILE…]",
		Short: "List the recordings in the service, or keep files there",
		Long: `Lists the recordings in the service. With files, reads each and keeps it there
under the file's name.`,
		Example: "  rectura recordings\n  rectura recordings examples/hatchery/recordings/night.csv",
		RunE: func(c *cobra.Command, args []string) error {
			api, err := newClient(server)
			if err != nil {
				return err
			}
			for _, file := range args {
				if err := upload(c, api, file, f); err != nil {
					return err
				}
			}
			if len(args) > 0 {
				return nil
			}
			return listRecordings(c, api, format)
		},
	}
	addServer(c, &server)
	addFormat(c, &format)
	addReading(c, &f)
	return c
}

func upload(c *cobra.Command, api *client.ClientWithResponses, file string, reading readingFlags) (err error) {
	f, err := os.Open(file)
	if err != nil {
		return fmt.Errorf("opening the recording: %w", err)
	}
	defer func() { err = errors.Join(err, f.Close()) }()
	info, err := f.Stat()
	if err != nil {
		return fmt.Errorf("opening the recording: %w", err)
	}
	progress, done := progressOf(c, info.Size(), "sending "+filepath.Base(file))
	var body io.Reader = io.NopCloser(f)
	if progress != nil {
		body = io.TeeReader(f, progress)
	}
	a, err := api.UploadRecordingWithBodyWithResponse(c.Context(), reading.params(filepath.Base(file)), "application/octet-stream", body)
	if err := errors.Join(answered(a, err, http.StatusCreated), done()); err != nil {
		return err
	}
	r := a.JSON201
	fmt.Fprintf(c.OutOrStdout(), "%s: recording %d, %d readings, kept in %d kB\n", r.Name, r.Id, r.Samples, (r.Bytes+999)/1000)
	for _, n := range r.Notes {
		fmt.Fprintf(c.ErrOrStderr(), "%s: %s\n", r.Name, n)
	}
	return nil
}

func listRecordings(c *cobra.Command, api *client.ClientWithResponses, format string) error {
	a, err := api.ListRecordingsWithResponse(c.Context())
	if err := answered(a, err, http.StatusOK); err != nil {
		return err
	}
	l := list{heads: []string{"ID", "NAME", "START", "LASTS", "COLUMNS", "READINGS", "KEPT IN"}, numbers: []int{1, 5, 6, 7}}
	for _, r := range *a.JSON200 {
		start := "elapsed"
		if !r.Clock.Elapsed {
			start = time.Unix(0, int64(r.Clock.Start*1e9)).In(time.FixedZone("", r.Clock.Offset)).Format("2006-01-02 15:04:05Z07:00")
		}
		l.add(strconv.FormatInt(r.Id, 10), r.Name, start, unit.FormatDuration(int64(r.Seconds*1e9)), strconv.Itoa(len(r.Columns)), strconv.Itoa(r.Samples),
			fmt.Sprintf("%d kB", (r.Bytes+999)/1000))
	}
	return l.write(c, format, *a.JSON200)
}
