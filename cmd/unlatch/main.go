// Command unlatch finds cameras, works out their stream URLs and sign-ins, proves each with a real picture, and puts them on
// their targets.
package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"syscall"

	"github.com/spf13/cobra"

	"unlatch/core/ground/release"
	"unlatch/core/ground/wiretext"
	"unlatch/server"
)

// Exit codes: 0 for success, 1 when the answer is no, 2 on wrong use.
const (
	exitNo    = 1
	exitUsage = 2
)

// errNo means that the command ran, its answer is no, and everything about that is printed already.
var errNo = errors.New("no")

// usageError marks wrong use.
type usageError struct{ error }

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	os.Exit(execute(ctx, os.Args[1:], os.Stdin, os.Stdout, os.Stderr))
}

// execute runs one command line and returns its exit code.
func execute(ctx context.Context, args []string, in io.Reader, out, complain io.Writer) int {
	c := root()
	c.SetArgs(args)
	c.SetIn(in)
	// What devices say is printed too: nothing of it moves a cursor or renames a window.
	out, complain = wiretext.Writer{To: out}, wiretext.Writer{To: complain}
	c.SetOut(out)
	c.SetErr(complain)
	err := c.ExecuteContext(ctx)
	var usage usageError
	switch {
	case err == nil:
		return 0
	case errors.Is(err, errNo):
		return exitNo
	}
	fmt.Fprintln(complain, "unlatch:", err)
	if errors.As(err, &usage) {
		return exitUsage
	}
	return exitNo
}

func root() *cobra.Command {
	c := &cobra.Command{
		Use: "unlatch", Short: "Find cameras, prove their streams, put them where they are wanted",
		SilenceErrors: true, SilenceUsage: true,
		RunE: sayWhat,
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) > 0 {
				return usageError{fmt.Errorf("there is no command %q; see: unlatch help", args[0])}
			}
			return nil
		},
	}
	c.SetFlagErrorFunc(func(_ *cobra.Command, err error) error { return usageError{err} })
	c.AddCommand(sweepCommand(), proveCommand(), lintCommand(), recipeCommand(), streamsCommand(), tuneCommand(), fitCommand(),
		bridgeCommand(), capacityCommand(), serveCommand(), demoCommand(), workerCommand(), simCommand(),
		openapiCommand(), loginCommand(), logoutCommand(), sitesCommand(), devicesCommand(), openCommand(), pasteCommand(), sendCommand(),
		targetsCommand(), placeCommand(), removeCommand(), statusCommand(), evidenceCommand(), supportNoteCommand(),
		signInsCommand(), recordCommand(), baselinesCommand(), driftsCommand(), handoverCommand(), peopleCommand(),
		configCommand(), backupCommand(), restoreCommand(), doctorCommand(), keysCommand(), programCommand(), versionCommand())
	return c
}

// sayWhat is the RunE of a command that only groups others: it prints how they are used, and asks for one of them.
func sayWhat(cmd *cobra.Command, _ []string) error {
	cmd.Usage()
	return usageError{errors.New("say what to do")}
}

func versionCommand() *cobra.Command {
	var asJSON bool
	c := &cobra.Command{Use: "version", Short: "Print the version, and what it was built from", Args: noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if asJSON {
				return json.NewEncoder(cmd.OutOrStdout()).Encode(release.Running())
			}
			_, err := fmt.Fprintln(cmd.OutOrStdout(), "unlatch", release.Running())
			return err
		}}
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return c
}

func noArgs(cmd *cobra.Command, args []string) error {
	if len(args) > 0 {
		return usageError{fmt.Errorf("%s takes no arguments", cmd.Name())}
	}
	return nil
}

func openapiCommand() *cobra.Command {
	return &cobra.Command{Use: "openapi", Short: "Print the API's OpenAPI document", Args: noArgs, Hidden: true,
		RunE: func(cmd *cobra.Command, _ []string) error {
			raw, err := server.OpenAPI()
			if err == nil {
				_, err = fmt.Fprintln(cmd.OutOrStdout(), string(raw))
			}
			return err
		}}
}
