package main

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"unlatch/core/decide/doctor"
	"unlatch/core/ground/machine"
	"unlatch/store"
	"unlatch/store/backup"
)

func doctorCommand() *cobra.Command {
	p := &place{}
	var asJSON, all bool
	c := &cobra.Command{Use: "doctor", Short: "Say whether a server is well, and what to do where it is not", Args: noArgs,
		Long: "Doctor looks at this machine, asks the database how it and the queue are, and reads what servers and workers have told of\n" +
			"themselves. It changes nothing, and starts nothing but a database in the data folder that does not run.\n" +
			"Exit 0 when nothing is wrong, 1 when something is, 2 on wrong use.",
		RunE: func(cmd *cobra.Command, _ []string) error {
			found := p.examine(cmd.Context())
			if asJSON {
				if err := json.NewEncoder(cmd.OutOrStdout()).Encode(found); err != nil {
					return err
				}
			} else {
				printFindings(cmd.OutOrStdout(), found, all)
			}
			if slices.ContainsFunc(found, func(f doctor.ServerFinding) bool { return f.State == doctor.Ill }) {
				return errNo
			}
			return nil
		}}
	p.flags(c, false)
	c.Flags().BoolVar(&asJSON, "json", false, "print every finding as JSON")
	c.Flags().BoolVar(&all, "all", false, "print what is well too")
	return c
}

// examine judges the installation, by what can be learned from here.
func (p *place) examine(ctx context.Context) []doctor.ServerFinding {
	ctx, done := context.WithTimeout(ctx, time.Minute)
	defer done()
	f, err := p.condition(ctx)
	if err != nil {
		own := machine.Look(ctx, machine.Options{Folder: p.data})
		here := doctor.Process{Name: "this one", Kind: doctor.Server, Seen: own.At, Machine: own}
		return append([]doctor.ServerFinding{{Cause: "no_database", State: doctor.Ill, Says: "The database cannot be asked: " + err.Error() + ".",
			Do: "Is the server running, and is --data its folder? See its log (journalctl -u unlatch)."}},
			doctor.JudgeMachine(here)...)
	}
	return doctor.Judge(f)
}

// condition asks the database, as it is: its tables are not brought up to date.
func (p *place) condition(ctx context.Context) (f doctor.Facts, err error) {
	if p.database == "" {
		if _, err := os.Stat(filepath.Join(p.data, backup.KeyFile)); err != nil {
			return f, fmt.Errorf("%w: is %s the data folder of a server", err, p.data)
		}
	}
	url, done, err := p.databaseOf(ctx)
	if err != nil {
		return f, err
	}
	defer done()
	s, err := store.OpenWith(ctx, store.Options{URL: url, AsIs: true})
	if err != nil {
		return f, err
	}
	defer s.Close()
	return s.Upkeep.Condition(ctx)
}

// printFindings prints findings for people.
func printFindings(out io.Writer, found []doctor.ServerFinding, all bool) {
	marks := map[doctor.State]string{doctor.Ill: "WRONG", doctor.Soon: "look ", doctor.Well: "well "}
	shown := 0
	for _, f := range found {
		if f.State == doctor.Well && !all {
			continue
		}
		shown++
		on := ""
		if f.On != "" {
			on = " (on " + f.On + ")"
		}
		fmt.Fprintf(out, "%s  %s%s\n", marks[f.State], f.Says, on)
		if f.Do != "" {
			fmt.Fprintf(out, "       %s\n", f.Do)
		}
	}
	if shown == 0 {
		fmt.Fprintln(out, "All is well.")
	}
}
