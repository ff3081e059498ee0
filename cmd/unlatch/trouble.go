package main

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"unlatch/sim"
)

func troubleCommand() *cobra.Command {
	var data string
	c := &cobra.Command{Use: "trouble KIND NAME [TO]", Short: "Make trouble for a stand-in that runs",
		Long: "Make trouble for a stand-in that runs, in a demo or by unlatch sim: NAME is its name or address.\n\n" + troubleHelp(),
		Example: "  unlatch sim trouble cover \"Platform clock\"\n  unlatch sim trouble address Footbridge 127.40.1.99\n" +
			"  unlatch sim trouble slot Footbridge \"Overlea Desk\"\n  unlatch sim trouble cut 127.40.1.8/29",
		Args: cobra.RangeArgs(2, 3),
		RunE: func(cmd *cobra.Command, args []string) error {
			t := sim.Trouble{Kind: args[0], Name: args[1]}
			if len(args) > 2 {
				t.To = args[2]
			}
			return sim.SendTrouble(cmd.Context(), data, t)
		}}
	c.Flags().StringVar(&data, "data", ".unlatch", "the data folder of the stand-ins")
	return c
}

// troubleHelp lists the kinds.
func troubleHelp() string {
	kinds := sim.TroubleKinds()
	var b strings.Builder
	for _, k := range slices.Sorted(maps.Keys(kinds)) {
		fmt.Fprintf(&b, "  %-9s %s\n", k, kinds[k])
	}
	b.WriteString("  slot      takes the camera NAME off the target TO\n  cut       takes the subnet NAME off the network\n" +
		"  mend      brings it back")
	return b.String()
}
