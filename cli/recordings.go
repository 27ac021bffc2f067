package cli

import (
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"time"

	"github.com/spf13/cobra"

	"rectura/client"
	"rectura/core/unit"
)

func newRecordings() *cobra.Command {
	var r remote
	var format string
	var f readingFlags
	c := &cobra.Command{
		Use:   "recordings [FILE…]",
		Short: "List the recordings in the service, or keep files there",
		Long: `Lists the recordings in the service. With files, reads each and keeps it there
under the file's name.`,
		Example: "  rectura recordings\n  rectura recordings examples/hatchery/recordings/night.csv",
		RunE: func(c *cobra.Command, args []string) error {
			for _, file := range args { // what is not there is said before anybody is asked
				if _, err := os.Stat(file); err != nil {
					return fmt.Errorf("opening the recording: %w", err)
				}
			}
			api, job, err := r.ask(c.Context())
			if err != nil {
				return err
			}
			for _, file := range args {
				if err := upload(c, api, job, file, f); err != nil {
					return err
				}
			}
			if len(args) > 0 {
				return nil
			}
			return listRecordings(c, api, job, format)
		},
	}
	r.addFlags(c.PersistentFlags())
	addFormat(c, &format)
	addReading(c, &f)
	c.AddCommand(newRenameRecording(&r), newDeleteRecording(&r))
	return c
}

func newRenameRecording(r *remote) *cobra.Command {
	return &cobra.Command{
		Use:     "rename NUMBER NAME",
		Short:   "Give a recording in the service another name",
		Example: "  rectura recordings rename 3 oxygen-dip.csv",
		RunE: func(c *cobra.Command, args []string) error {
			id, err := recordingNumber(args[0])
			if err != nil {
				return err
			}
			api, job, err := r.ask(c.Context())
			if err != nil {
				return err
			}
			a, err := api.RenameRecordingWithResponse(c.Context(), job, id, client.RecordingName{Name: args[1]})
			if err := answered(a, err, http.StatusOK); err != nil {
				return err
			}
			fmt.Fprintf(c.OutOrStdout(), "recording %d: %s\n", id, a.JSON200.Name)
			return nil
		},
	}
}

func newDeleteRecording(r *remote) *cobra.Command {
	return &cobra.Command{
		Use:   "delete NUMBER",
		Short: "Delete a recording in the service",
		Long: `Deletes a recording with its readings. One that a trial of a kept revision plays
stays; delete those revisions first.`,
		Example: "  rectura recordings delete 3",
		RunE: func(c *cobra.Command, args []string) error {
			id, err := recordingNumber(args[0])
			if err != nil {
				return err
			}
			api, job, err := r.ask(c.Context())
			if err != nil {
				return err
			}
			a, err := api.DeleteRecordingWithResponse(c.Context(), job, id)
			if err := answered(a, err, http.StatusNoContent); err != nil {
				return err
			}
			fmt.Fprintf(c.OutOrStdout(), "recording %d is deleted\n", id)
			return nil
		},
	}
}

func recordingNumber(text string) (int64, error) {
	id, err := strconv.ParseInt(text, 10, 64)
	if err != nil || id < 1 {
		return 0, fmt.Errorf("%s is no number of a recording; rectura recordings lists them", text)
	}
	return id, nil
}

func upload(c *cobra.Command, api *client.ClientWithResponses, job, file string, reading readingFlags) (err error) {
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
	a, err := api.UploadRecordingWithBodyWithResponse(c.Context(), job, reading.params(filepath.Base(file)), "application/octet-stream", body)
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

func listRecordings(c *cobra.Command, api *client.ClientWithResponses, job, format string) error {
	a, err := api.ListRecordingsWithResponse(c.Context(), job)
	if err := answered(a, err, http.StatusOK); err != nil {
		return err
	}
	l := list{heads: []string{"ID", "NAME", "START", "LASTS", "COLUMNS", "READINGS", "KEPT IN"}, numbers: []int{1, 5, 6, 7}}
	for _, r := range *a.JSON200 {
		start := "elapsed"
		if !r.Clock.Elapsed {
			start = time.Unix(0, int64(r.Clock.Start*1e9)).In(time.FixedZone("", r.Clock.Offset)).Format("2006-01-02 15:04:05Z07:00")
		}
		l.add(
			strconv.FormatInt(r.Id, 10),
			r.Name,
			start,
			unit.FormatDuration(int64(r.Seconds*1e9)),
			strconv.Itoa(len(r.Columns)),
			strconv.Itoa(r.Samples),
			fmt.Sprintf("%d kB", (r.Bytes+999)/1000),
		)
	}
	return l.write(c, format, *a.JSON200)
}
