// Package cli is the command line: one file a command.
//
// Results go to standard output; findings, progress and errors to standard
// error. The exit code is 0 when done, 1 when it ran and the answer is no, 2
// when it was called wrongly or could not run.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"

	"github.com/spf13/cobra"
)

// errNo is the error of a command that ran, and whose answer is no. It has
// said so already.
var errNo = errors.New("the answer is no")

// errSaid is the error of a command that could not run and has said why.
var errSaid = errors.New("could not run")

// Main runs the command line and returns its exit code.
func Main(args []string, stdout, stderr io.Writer) int {
	unhurried()
	return Run(context.Background(), args, stdout, stderr)
}

// Run is Main until a context ends.
func Run(ctx context.Context, args []string, stdout, stderr io.Writer) int {
	root := newRoot()
	root.SetArgs(markNegatives(root, args))
	stdout, stderr = plainWriter{Writer: stdout}, plainWriter{Writer: stderr}
	root.SetOut(stdout)
	root.SetErr(stderr)
	err := root.ExecuteContext(ctx)
	switch {
	case err == nil:
		return 0
	case errors.Is(err, errNo):
		return 1
	case !errors.Is(err, errSaid):
		fmt.Fprintf(stderr, "rectura: %v\n", err)
	}
	return 2
}

func newRoot() *cobra.Command {
	root := &cobra.Command{
		Use:   "rectura",
		Short: "Control rules, written as they read aloud and tried on recorded signals",
		Long: `Rectura checks control rules, plays recorded signals through them, and says what
every lamp, start and alarm would have done, when, and because of what.

A job is a folder of sheets (NAME.rct) with its recordings/.`,
		SilenceUsage:  true,
		SilenceErrors: true,
	}
	root.SetFlagErrorFunc(optionError)
	bench := &cobra.Group{ID: "bench", Title: "On the bench, with a job's folder:"}
	served := &cobra.Group{ID: "service", Title: "The service:"}
	running := &cobra.Group{ID: "running", Title: "A job that is run, in the service:"}
	root.AddGroup(bench, served, running)
	for _, c := range []*cobra.Command{newNew(), newCheck(), newFmt(), newShow(), newScale(), newTry(), newTrip(), newReplay(), newWhy(), newTrial(), newCalibrate(), newTeach(), newRegisters(), newConvert(), newIolist()} {
		c.GroupID = bench.ID
		root.AddCommand(c)
	}
	for _, c := range []*cobra.Command{newServe(), newDemo(), newPush(), newJobs(), newRevisions(), newRecordings()} {
		c.GroupID = served.ID
		root.AddCommand(c)
	}
	for _, c := range []*cobra.Command{newStatus(), newListen(), newArm(), newDisarm(), newPoints(), newWatch(), newRules(), newAlarms(), newBypasses(), newJournal(), newCapture(), newVerify()} {
		c.GroupID = running.ID
		root.AddCommand(c)
	}
	for _, a := range acts {
		c := newAct(a)
		c.GroupID = running.ID
		root.AddCommand(c)
	}
	root.AddCommand(newVersion(), newBench())
	askArguments(root)
	return root
}
