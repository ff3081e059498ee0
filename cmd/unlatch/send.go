package main

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"
)

func sendCommand() *cobra.Command {
	var name string
	var set []string
	var undo bool
	c, _ := onServerFor(&cobra.Command{Use: "send [CAMERA...] --command NAME", Short: "Tell cameras something on their maker's own page",
		Long: "Send carries out a command recipe of a path book: what was before is kept, and what is set is read back. See docs/recipes.md.\n" +
			"Exit 0 when it was done, 1 when not, 2 on wrong use."},
		"send-command", func(_ context.Context, _ *remote, _ string, d []deviceRow) (any, error) {
			if name == "" {
				return nil, usageError{errors.New("say which command: --command NAME")}
			}
			values := map[string]string{}
			for _, s := range set {
				key, value, ok := strings.Cut(s, "=")
				if !ok {
					return nil, usageError{fmt.Errorf("--set takes a name and a value, like method=digest, not %q", s)}
				}
				values[key] = value
			}
			if undo == (len(values) > 0) {
				return nil, usageError{errors.New("give the values with --set, or --undo to put back what was before")}
			}
			return map[string]any{"devices": idsOf(d), "command": name, "values": values, "undo": undo}, nil
		})
	c.Flags().StringVar(&name, "command", "", "the command's name, as its path book has it")
	c.Flags().StringArrayVar(&set, "set", nil, "a value, like method=digest; may be given again")
	c.Flags().BoolVar(&undo, "undo", false, "put back what was before")
	return c
}
