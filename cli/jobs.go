package cli

import (
	"fmt"
	"net/http"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"rectura/client"
)

func newJobs() *cobra.Command {
	var r remote
	var format string
	c := &cobra.Command{
		Use:     "jobs",
		Short:   "List the jobs in the service",
		Example: "  rectura jobs\n  rectura jobs --format json",
		RunE: func(c *cobra.Command, _ []string) error {
			api, err := newClient(r.server)
			if err != nil {
				return err
			}
			a, err := api.ListJobsWithResponse(c.Context())
			if err := answered(a, err, http.StatusOK); err != nil {
				return err
			}
			l := list{heads: []string{"JOB", "TITLE", "NEWEST", "REVISIONS", "RECORDINGS"}, numbers: []int{3, 4, 5}}
			for _, j := range *a.JSON200 {
				newest := "none"
				if j.Newest > 0 {
					newest = strconv.FormatInt(j.Newest, 10)
				}
				l.add(j.Name, j.Title, newest, strconv.Itoa(j.Revisions), strconv.Itoa(j.Recordings))
			}
			return l.write(c, format, *a.JSON200)
		},
	}
	r.addServer(c.PersistentFlags())
	addFormat(c, &format)
	c.AddCommand(newDeleteJob(&r))
	return c
}

func newDeleteJob(r *remote) *cobra.Command {
	var yes, purge bool
	c := &cobra.Command{
		Use:   "delete JOB",
		Short: "Delete a job in the service, with its revisions and recordings",
		Long: `Deletes a job that is idle. What it did while it was run, its memory, journal and capture,
is put into a file of its own in the service's data folder, unless --purge is said.`,
		Example: "  rectura jobs delete old-hut --yes\n  rectura jobs delete old-hut --yes --purge",
		RunE: func(c *cobra.Command, args []string) error {
			api, err := newClient(r.server)
			if err != nil {
				return err
			}
			if !yes {
				return deletable(c, api, args[0], purge)
			}
			gone, err := api.DeleteJobWithResponse(c.Context(), args[0], &client.DeleteJobParams{Purge: &purge})
			if err := answered(gone, err, http.StatusOK); err != nil {
				return err
			}
			fmt.Fprintf(c.OutOrStdout(), "%s is deleted.\n", args[0])
			if aside := gone.JSON200.Aside; aside != "" {
				fmt.Fprintf(c.OutOrStdout(), "What it did is kept in the service's data folder, in %s.\n", aside)
			}
			return nil
		},
	}
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	c.Flags().BoolVar(&purge, "purge", false, "delete its memory, journal and capture, too")
	return c
}

// deletable returns an error that lists the data that the deletion would destroy. It is for a call without --yes.
func deletable(c *cobra.Command, api *client.ClientWithResponses, job string, purge bool) error {
	a, err := api.GetJobWithResponse(c.Context(), job)
	if err := answered(a, err, http.StatusOK); err != nil {
		return err
	}
	besides := ""
	if purge {
		besides = ", and its journal and capture,"
	}
	return fmt.Errorf(
		"%s has %s and %s,%s which would be gone for good; if that is meant, say --yes",
		job,
		count(a.JSON200.Revisions, "revision", "revisions"),
		count(a.JSON200.Recordings, "recording", "recordings"),
		strings.TrimPrefix(besides, ","),
	)
}
