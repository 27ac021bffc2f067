package cli

import (
	"net/http"
	"strconv"

	"github.com/spf13/cobra"
)

func newRevisions() *cobra.Command {
	var r remote
	var format string
	c := &cobra.Command{
		Use:     "revisions",
		Short:   "List the revisions in the service, the newest first",
		Example: "  rectura revisions\n  rectura revisions --job hatchery --format json",
		RunE: func(c *cobra.Command, _ []string) error {
			api, job, err := r.ask(c.Context())
			if err != nil {
				return err
			}
			a, err := api.ListRevisionsWithResponse(c.Context(), job)
			if err := answered(a, err, http.StatusOK); err != nil {
				return err
			}
			l := list{heads: []string{"REVISION", "KEPT", "JOB", "INPUTS", "OUTPUTS", "RULES", "WARNINGS", "NOTE"}, numbers: []int{1, 4, 5, 6, 7}}
			for _, r := range *a.JSON200 {
				l.add(
					strconv.FormatInt(r.Number, 10),
					r.Created.Local().Format("2006-01-02 15:04:05"),
					r.Title,
					strconv.Itoa(r.Inputs),
					strconv.Itoa(r.Outputs),
					strconv.Itoa(r.Rules),
					strconv.Itoa(r.Warnings),
					r.Note,
				)
			}
			return l.write(c, format, *a.JSON200)
		},
	}
	r.addFlags(c.Flags())
	addFormat(c, &format)
	return c
}
