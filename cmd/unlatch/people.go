package main

import (
	"errors"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"unlatch/server"
	"unlatch/store"
)

// peopleCommand is for whoever may work on the machine itself, when nobody can sign in any more.
func peopleCommand() *cobra.Command {
	c := &cobra.Command{Use: "people", Short: "Look after accounts on the machine that Unlatch runs on",
		RunE: sayWhat}
	c.AddCommand(resetCommand())
	return c
}

func resetCommand() *cobra.Command {
	var p place
	var second bool
	c := &cobra.Command{Use: "reset NAME", Short: "Make a one-time link by which a person sets a new password",
		Long: "Reset prints a link by which a person sets a new password. The server may run meanwhile. It stands in the record.\n" +
			"Exit 0 when the link was made, 1 when there is nobody of that name, 2 on wrong use.",
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) != 1 {
				return usageError{errors.New("name one person")}
			}
			s, err := p.openBeside(cmd.Context())
			if err != nil {
				return err
			}
			defer s.Close()
			token, until, err := server.ResetOnMachine(cmd.Context(), s.Store, args[0], second)
			if errors.Is(err, store.ErrNotFound) {
				fmt.Fprintf(cmd.ErrOrStderr(), "There is nobody called %q.\n", args[0])
				return errNo
			}
			if err != nil {
				return err
			}
			fmt.Fprintf(cmd.OutOrStdout(), "Open this path of the server's address before %s:\n/join#%s\n",
				until.Local().Format(time.DateTime), token)
			return nil
		}}
	p.flags(c, false)
	c.Flags().BoolVar(&second, "second-factor", false, "take the person's passkeys and codes away too: they are lost")
	return c
}

// verifyCommand reads the record on the machine itself: a server that was tampered with is not asked about itself.
func verifyCommand() *cobra.Command {
	var p place
	var hash string
	c := &cobra.Command{Use: "verify", Short: "Check on the machine itself that no line of the record was changed, taken out or slipped in",
		Long: "Verify reads the whole record from the database and works out the hash of each line, which holds that of the line before.\n" +
			"It prints the hash of the newest line: whoever keeps it elsewhere can check later, with --contains, that the record still follows\n" +
			"from it.\nExit 0 when every line holds, 1 when one does not, 2 on wrong use.",
		Args: noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := p.openBeside(cmd.Context())
			if err != nil {
				return err
			}
			defer s.Close()
			chain, err := s.Store.Verify(cmd.Context(), hash)
			if err != nil {
				return err
			}
			fmt.Fprintln(cmd.OutOrStdout(), chain)
			if chain.Broken != nil || hash != "" && !chain.Contains {
				return errNo
			}
			return nil
		}}
	p.flags(c, false)
	c.Flags().StringVar(&hash, "contains", "", "a hash that verify printed earlier, which one of the lines must have still")
	return c
}
