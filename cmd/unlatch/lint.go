package main

import (
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"unlatch/core/ground/streamurl"
	"unlatch/core/stream/recipe"
)

// linted is one URL as lint prints it.
type linted struct {
	streamurl.Repaired
	URL  string `json:"url,omitempty"`
	User string `json:"user,omitempty"`
}

func lintCommand() *cobra.Command {
	var asJSON, whole bool
	c := &cobra.Command{
		Use: "lint URL|-", Short: "Say what is wrong with a stream URL, and what it becomes",
		Long: "Lint repairs a URL that was damaged on its way: a doubled scheme, brackets, back-slashes, quotes, &amp;, unencoded " +
			"characters in the password,\n" +
			"the web port where the stream port belongs, and more. With - it reads a page of notes from standard input and finds the URLs in it.\n" +
			"Passwords are printed only with --with-sign-in. Exit 0 when every URL can be read, 1 when one cannot, 2 on wrong use.",
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) != 1 {
				return usageError{errors.New("lint takes one URL, or - for standard input")}
			}
			var list []streamurl.Repaired
			if args[0] == "-" {
				raw, err := io.ReadAll(io.LimitReader(cmd.InOrStdin(), 4<<20))
				if err != nil {
					return err
				}
				list = streamurl.RepairAll(string(raw))
			} else {
				list = []streamurl.Repaired{streamurl.Repair(args[0])}
			}
			out := []linted{}
			bad := len(list) == 0
			books := recipe.Shipped()
			for _, r := range list {
				if err := recipe.Amend(cmd.Context(), &r, books); err != nil {
					return err
				}
				l := linted{Repaired: r}
				if r.OK {
					l.URL, l.User = r.URL.Redacted(), r.URL.SignIn.User
					if whole {
						l.URL = r.URL.Reveal()
					}
				}
				bad = bad || !r.OK
				out = append(out, l)
			}
			if err := printLint(cmd.OutOrStdout(), out, asJSON, args[0] == "-"); err != nil {
				return err
			}
			if bad {
				return errNo
			}
			return nil
		},
	}
	c.Flags().BoolVar(&asJSON, "json", false, "print a JSON array")
	c.Flags().BoolVar(&whole, "with-sign-in", false, "print passwords too, percent-encoded")
	return c
}

func printLint(w io.Writer, list []linted, asJSON, lines bool) error {
	if asJSON {
		return encode(w, list)
	}
	if len(list) == 0 {
		fmt.Fprintln(w, "No URL stands in it.")
	}
	for _, l := range list {
		head := ""
		if lines {
			head = fmt.Sprintf("line %d: ", l.Line)
		}
		if l.OK {
			fmt.Fprintln(w, head+l.URL)
		} else {
			fmt.Fprintln(w, head+strings.Join([]string{l.Problem, l.Fix}, "; "))
		}
		for _, f := range l.Findings {
			fmt.Fprintf(w, "  %s: %s\n", f.Problem, f.Becomes)
		}
	}
	return nil
}
