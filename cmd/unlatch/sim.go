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
			w, err := startSim(cmd.Context(), s, data, drawing(cmd.OutOrStdout()))
			if err != nil {
				return err
			}
			fmt.Fprintf(cmd.OutOrStdout(), "%d stand-ins of %q are running; stop with Ctrl-C.\n", len(s.Devices), s.Name)
			<-cmd.Context().Done()
			return w.Stop()
		}}
	c.AddCommand(troubleCommand())
	c.Flags().StringVar(&file, "scenario", "", "scenario file (YAML); the Tarnside railway where none is given")
	c.Flags().StringVar(&data, "data", ".unlatch", "folder for encoded pictures and what recorders remember")
	return c
}

// startSim runs a scenario. The first time its pictures are encoded, which encoded is told of.
func startSim(ctx context.Context, s *sim.Scenario, data string, encoded func(done, all int)) (*sim.World, error) {
	media := filepath.Join(data, "media")
	complete := filepath.Join(media, "complete") // stands when all pictures of the railway have been drawn
	if _, err := os.Stat(complete); err == nil {
		encoded = nil
	}
	w, err := sim.Start(ctx, s, sim.Options{Media: &scene.Library{Dir: media}, State: filepath.Join(data, "sim"),
		Log: slog.New(slog.NewTextHandler(os.Stderr, nil)), Encoded: encoded})
	if err == nil {
		err = errors.Join(os.MkdirAll(media, 0o755), os.WriteFile(complete, nil, 0o644))
		if err := w.ListenForTrouble(ctx, data); err != nil { // the path of a socket may be too long; all else works without
			slog.Warn("no trouble can be made from the command line", "err", err)
		}
	}
	return w, err
}

// drawing tells a terminal, by one line that counts up, how far the drawing is; a log file is told once.
func drawing(out io.Writer) func(done, all int) {
	terminal, said := term.IsTerminal(int(os.Stdout.Fd())), false
	return func(done, all int) {
		switch {
		case terminal:
			fmt.Fprintf(out, "\rDrawing the railway for the first time: %d of %d", done, all)
			if done == all {
				fmt.Fprintln(out)
			}
		case !said:
			fmt.Fprintf(out, "Drawing the railway for the first time: %d pictures\n", all)
		}
		said = true
	}
}
