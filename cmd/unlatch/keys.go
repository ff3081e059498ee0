package main

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"unlatch/core/decide/doctor"
	"unlatch/store"
	"unlatch/store/backup"
)

// keysCommand is for the key that sign-ins are encrypted with at rest.
func keysCommand() *cobra.Command {
	c := &cobra.Command{Use: "keys", Short: "Look after the key that sign-ins are encrypted with",
		RunE: sayWhat}
	c.AddCommand(rotateCommand(), backCommand())
	return c
}

// backCommand is for whoever goes back to an older version of the program.
func backCommand() *cobra.Command {
	p := &place{}
	c := &cobra.Command{Use: "back", Short: "Encrypt every sign-in with the key file itself, for an older version", Args: noArgs,
		Long: "Sign-ins are encrypted with a key for each site, which older versions do not know. Back encrypts them with the key file,\n" +
			"so that a database that is taken back to an older version opens there. Paired workers open nothing meanwhile. The next start of\n" +
			"this version turns them over again. Cut off, the same command goes on where it was.",
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := p.openBeside(cmd.Context())
			if err != nil {
				return err
			}
			defer s.Close()
			n, err := s.Store.TurnBack(cmd.Context())
			fmt.Fprintf(cmd.OutOrStdout(), "%d rows are encrypted with the key file now.\n", n)
			return err
		}}
	p.flags(c, false)
	return c
}

func rotateCommand() *cobra.Command {
	p := &place{}
	var copied bool
	c := &cobra.Command{Use: "rotate", Short: "Encrypt every sign-in with a new key, and forget the old one", Args: noArgs,
		Long: "Rotate makes a new key, encrypts with it whatever is encrypted in the database, and takes the old key out of the key file.\n" +
			"The server may run meanwhile, and takes the new key up by itself. Cut off, the same command goes on where it was.\n" +
			"Workers on other machines have copies of the key file: then rotate only adds the new key to the file, and says which machines\n" +
			"to copy it to; with --copied it goes on. Backups made before need the old key, which they hold.\n" +
			"Exit 0 when the old key is gone, 1 when something is still to be done, 2 on wrong use.",
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := p.openBeside(cmd.Context())
			if err != nil {
				return err
			}
			defer s.Close()
			key, out := filepath.Join(p.data, backup.KeyFile), cmd.OutOrStdout()
			list, err := s.Store.Upkeep.Processes(cmd.Context())
			if err != nil {
				return err
			}
			if elsewhere := workersElsewhere(list); len(elsewhere) > 0 && !copied {
				if err := store.PrepareKey(key); err != nil {
					return err
				}
				fmt.Fprintf(out, "%s holds the next key too. Copy it to the data folders of the workers on %s, then: unlatch keys rotate --copied\n",
					key, strings.Join(elsewhere, ", "))
				return errNo
			}
			n, err := s.Store.RotateKey(cmd.Context(), store.Rotation{})
			if err != nil {
				return fmt.Errorf("%w; to go on, run the same command again", err)
			}
			fmt.Fprintf(out, "%d values are encrypted with the new key; the old one is gone. Make a backup now: the new key is in none yet.\n", n)
			return nil
		}}
	p.flags(c, false)
	c.Flags().BoolVar(&copied, "copied", false, "the key file was copied to the workers on other machines")
	return c
}

// workersElsewhere names the other machines that workers with a key file run on.
func workersElsewhere(list []doctor.Process) (names []string) {
	here, _ := os.Hostname()
	for _, x := range list {
		if x.Kind == doctor.Worker && !x.Paired && x.Machine.Name != here && time.Since(x.Seen) < time.Hour &&
			!slices.Contains(names, x.Machine.Name) {
			names = append(names, x.Machine.Name)
		}
	}
	return names
}
