package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net/http"
	"os"
	"path"

	"github.com/spf13/cobra"

	"rectura/client"
	"rectura/core/sheet"
	"rectura/examples/hatchery"
)

func newDemo() *cobra.Command {
	var f serveFlags
	c := &cobra.Command{
		Use:   "demo",
		Short: "Run the service with the demo: a made-up trout hatchery and its recordings",
		Long: `Runs the service with the Fennick trout hatchery, a made-up job, and the
recordings of it. Without --data, what is kept is thrown away at the end.`,
		Example: "  rectura demo",
		RunE:    func(c *cobra.Command, _ []string) error { return runDemo(c, f) },
	}
	addServeFlags(c, &f, "one that is thrown away")
	return c
}

func runDemo(c *cobra.Command, f serveFlags) (err error) {
	if f.data == "" {
		if f.data, err = os.MkdirTemp("", "rectura-demo-"); err != nil {
			return fmt.Errorf("making a folder for the demo: %w", err)
		}
		defer func() { err = errors.Join(err, os.RemoveAll(f.data)) }()
	}
	s, err := start(c, f)
	if err != nil {
		return err
	}
	return alongside(c.Context(), s, func(ctx context.Context) error {
		night, err := loadDemo(ctx, s.URL())
		if err != nil {
			return fmt.Errorf("loading the demo: %w", err)
		}
		fmt.Fprintf(
			c.OutOrStdout(),
			"\nThe Fennick trout hatchery is at\n\n    %s/%s/bench?recording=%d\n\nCtrl+C ends it.\n\n",
			s.URL(),
			demoJob,
			night,
		)
		return nil
	})
}

// demoJob is the short name of the demo.
const demoJob = "hatchery"

// loadDemo pushes the demo job and its recordings, as far as they are not there
// yet, and returns the number of the night's recording.
func loadDemo(ctx context.Context, url string) (night int64, err error) {
	api, err := newClient(url)
	if err != nil {
		return 0, err
	}
	sources, err := sheet.ReadSources(hatchery.Files)
	if err != nil {
		return 0, err
	}
	a, err := api.PutJobWithResponse(ctx, demoJob)
	if err := answered(a, err, http.StatusOK, http.StatusCreated); err != nil {
		return 0, err
	}
	kept, err := api.ListRecordingsWithResponse(ctx, demoJob)
	if err := answered(kept, err, http.StatusOK); err != nil {
		return 0, err
	}
	ids := map[string]int64{}
	for _, r := range *kept.JSON200 {
		ids[r.Name] = r.Id
	}
	names, err := fs.Glob(hatchery.Files, "recordings/*.csv")
	if err != nil {
		return 0, err
	}
	for _, name := range names {
		base := path.Base(name)
		if _, there := ids[base]; there {
			continue
		}
		file, err := hatchery.Files.Open(name)
		if err != nil {
			return 0, err
		}
		answer, err := api.UploadRecordingWithBodyWithResponse(
			ctx,
			demoJob,
			&client.UploadRecordingParams{Name: base},
			"application/octet-stream",
			file,
		)
		if err := errors.Join(answered(answer, err, http.StatusCreated), file.Close()); err != nil {
			return 0, err
		}
		ids[base] = answer.JSON201.Id
	}
	if a.JSON200 == nil || a.JSON200.Revisions == 0 {
		p := &pusher{api: api, job: demoJob, folder: hatchery.Files, told: func(string, ...any) {}}
		if _, _, err := p.push(ctx, sources, "The demo as it comes"); err != nil {
			return 0, err
		}
	}
	return ids["night.csv"], nil
}
