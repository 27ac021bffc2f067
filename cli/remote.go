package cli

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"os"
	"reflect"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"rectura/client"
	"rectura/core/sheet"
	"rectura/service"
)

// serverVariable names the environment variable that says where the service is.
const serverVariable = "RECTURA_SERVER"

// A remote is the service that a command asks, and the job that it is about.
type remote struct{ server, job string }

func (r *remote) addServer(flags *pflag.FlagSet) {
	flags.StringVar(&r.server, "server", "", "the service's `URL` (default $"+serverVariable+", else http://"+service.DefaultListen+")")
}

func (r *remote) addFlags(flags *pflag.FlagSet) {
	r.addServer(flags)
	flags.StringVar(&r.job, "job", "", "the short `name` of the job (not needed where one is kept)")
}

// ask gives a client of the service, and the name of the job.
func (r *remote) ask(ctx context.Context) (*client.ClientWithResponses, string, error) {
	api, err := newClient(r.server)
	if err != nil || r.job != "" {
		return api, r.job, err
	}
	a, err := api.GetStatusWithResponse(ctx) // which control answers, also while the bench is away
	if err := answered(a, err, http.StatusOK); err != nil {
		return nil, "", err
	}
	var names []string
	for _, j := range *a.JSON200 {
		names = append(names, j.Job)
	}
	switch len(names) {
	case 0:
		return nil, "", errors.New("the service keeps no job yet; begin with: rectura push JOB")
	case 1:
		return api, names[0], nil
	}
	return nil, "", fmt.Errorf("the service keeps the jobs %s; say which: --job %s", sheet.List(names, "and"), names[0])
}

func newClient(server string) (*client.ClientWithResponses, error) {
	server = strings.TrimRight(cmp.Or(server, os.Getenv(serverVariable), service.DefaultListen), "/")
	if !strings.Contains(server, "://") {
		server = "http://" + server
	}
	api, err := client.NewClientWithResponses(server+"/api", client.WithHTTPClient(&http.Client{Timeout: 10 * time.Minute, Transport: bounded{http.DefaultTransport}}))
	if err != nil {
		return nil, fmt.Errorf("the service's URL %s: %w", server, err)
	}
	return api, nil
}

// An answer is what the generated client returns for every call.
type answer interface{ StatusCode() int }

// answered makes an error of a call that failed or was refused. The problem
// that the service sent says why.
func answered(a answer, err error, want ...int) error {
	if err != nil {
		return fmt.Errorf("asking the service; is it running? %w", err)
	}
	if slices.Contains(want, a.StatusCode()) {
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

// write lists in the format asked for; data is what JSON shows.
func (l *list) write(c *cobra.Command, format string, data any) error {
	switch format {
	case "json":
		return writeJSON(c.OutOrStdout(), data)
	case "csv":
		return l.csv(c.OutOrStdout())
	}
	if l.rows == 0 {
		fmt.Fprintln(c.OutOrStdout(), "None yet.")
		return nil
	}
	return l.table(c.OutOrStdout())
}
