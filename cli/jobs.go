package cli

import (
	"fmt"
	"net/http"
	"strconv"

	"github.com/spf13/cobra"
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
	var yes bool
	c := &cobra.Command{
		Use:     "delete JOB",
		Short:   "Delete a job in the service, with its revisions and recordings",
		Example: "  rectura jobs delete old-hut --yes",
		RunE: func(c *cobra.Command, args []string) error {
			api, err := newClient(r.server)
			if err != nil {
				return err
			}
			a, err := api.GetJobWithResponse(c.Context(), args[0])
			if err := answered(a, err, http.StatusOK); err != nil {
				return err
			}
			if j := a.JSON200; !yes {
				return fmt.Errorf(
					"%s has %s and %s, which would be gone for good; if that is meant, say --yes",
					j.Name,
					count(j.Revisions, "revision", "revisions"),
					count(j.Recordings, "recording", "recordings"),
				)
			}
			gone, err := api.DeleteJobWithResponse(c.Context(), args[0])
			if err := answered(gone, err, http.StatusNoContent); err != nil {
				return err
			}
			fmt.Fprintf(c.OutOrStdout(), "%s is deleted\n", args[0])
			return nil
		},
	}
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return c
}
