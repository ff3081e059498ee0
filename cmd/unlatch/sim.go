package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"unlatch/demo"
	"unlatch/sim"
	"unlatch/sim/scene"
)

func simCommand() *cobra.Command {
	var file, data string
	c := &cobra.Command{Use: "sim", Short: "Run stand-in cameras and recorders alone", Args: noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := demo.Scenario("")
			if file != "" {
				s, err = sim.LoadScenario(file)
			}
			if err != nil {
				return usageError{err}
			}
			w, err := startSim(cmd.Context(), s, data, cmd.OutOrStdout())
			if err != nil {
				return err
			}
			fmt.Fprintf(cmd.OutOrStdout(), "%d stand-ins of %q are running; stop with Ctrl-C.\n", len(s.Devices), s.Name)
			<-cmd.Context().Done()
			return w.Stop()
		}}
	c.Flags().StringVar(&file, "scenario", "", "scenario file (YAML); the Tarnside railway where none is given")
	c.Flags().StringVar(&data, "data", ".unlatch", "folder for encoded pictures and what recorders remember")
	return c
}

// startSim runs a scenario, saying how far the first encoding is.
func startSim(ctx context.Context, s *sim.Scenario, data string, out io.Writer) (*sim.World, error) {
	terminal := term.IsTerminal(int(os.Stdout.Fd()))
	said := false
	w, err := sim.Start(ctx, s, sim.Options{
		Media: &scene.Library{Dir: filepath.Join(data, "media")}, State: filepath.Join(data, "sim"),
		Log: slog.New(slog.NewTextHandler(os.Stderr, nil)),
		Encoded: func(done, all int) {
			if _, err := os.Stat(filepath.Join(data, "media", "complete")); err == nil {
				return
			}
			if terminal { // one line that counts up
				fmt.Printf("\rDrawing the railway for the first time: %d of %d", done, all)
			} else if !said { // in a log file it is said once
				fmt.Fprintf(out, "Drawing the railway for the first time: %d pictures\n", all)
			}
			said = true
		},
	})
	if said && terminal {
		fmt.Println()
	}
	if err == nil {
		err = errors.Join(err, os.MkdirAll(filepath.Join(data, "media"), 0o755),
			os.WriteFile(filepath.Join(data, "media", "complete"), nil, 0o644))
	}
	return w, err
}
