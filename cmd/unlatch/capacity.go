package main

import (
	"errors"
	"fmt"

	"github.com/spf13/cobra"

	"unlatch/core/stream/capacity"
)

// capacityAnswer is what the command prints.
type capacityAnswer struct {
	UsableBytes int64    `json:"usable_bytes"`
	BytesPerDay float64  `json:"bytes_per_day"`
	Days        *float64 `json:"days"` // null where nothing is recorded
	InboundMbps float64  `json:"inbound_mbps"`
	KbpsForDays *float64 `json:"kbps_for_days"` // of each camera; null where no days were asked for
}

func capacityCommand() *cobra.Command {
	var disks, raid string
	var cameras, spares int
	var kbps, hours, motion, reserve, days float64
	var asJSON bool
	c := &cobra.Command{
		Use: "capacity --disks 4x4TB --cameras 16 --kbps 4000", Short: "Reckon days of recording from disks, and bitrates from days",
		Long: "Capacity reckons for how many days the recordings of cameras fit onto disks, and with --days which bitrate each camera " +
			"may have for them " +
			"to fit so long.\n" +
			"Disks are sold in decimal units: 1 TB is 10^12 bytes. Exit 0 when it could be reckoned, 2 on wrong use.",
		Args: noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			d, err := capacity.ParseDisks(disks)
			if err != nil {
				return usageError{err}
			}
			if d.Layout, err = capacity.ParseLayout(raid); err != nil {
				return usageError{err}
			}
			d.Spares, d.ReservePercent = spares, reserve
			var out capacityAnswer
			if out.UsableBytes, err = d.UsableBytes(); err != nil {
				return usageError{err}
			}
			switch {
			case cameras < 1 || cameras > 100_000:
				return usageError{errors.New("--cameras takes a number from 1 to 100000")}
			case kbps < 0 || kbps > 1e7:
				return usageError{errors.New("--kbps takes a number from 0 to 10000000")}
			case hours < 0 || hours > 24:
				return usageError{errors.New("--hours takes a number from 0 to 24")}
			case motion < 0 || motion > 100:
				return usageError{errors.New("--motion takes a share in percent from 0 to 100")}
			}
			streams := []capacity.Stream{{Cameras: cameras, Kbps: kbps, Hours: hours, Motion: motion / 100}}
			out.BytesPerDay = capacity.BytesPerDay(streams)
			out.InboundMbps = capacity.LoadOf(streams).InboundMbps
			if out.BytesPerDay > 0 {
				fit := capacity.Days(out.UsableBytes, streams)
				out.Days = &fit
			}
			if cmd.Flags().Changed("days") {
				each, err := capacity.KbpsForDays(out.UsableBytes, days, streams)
				if err != nil {
					return usageError{err}
				}
				out.KbpsForDays = &each[0]
			}
			if asJSON {
				return encode(cmd.OutOrStdout(), out)
			}
			w := cmd.OutOrStdout()
			fmt.Fprintf(w, "usable       %.2f TB\n", float64(out.UsableBytes)/1e12)
			fmt.Fprintf(w, "a day        %.3g GB\n", out.BytesPerDay/1e9)
			if out.Days != nil {
				fmt.Fprintf(w, "fits for     %.1f days\n", *out.Days)
			}
			fmt.Fprintf(w, "inbound      %.1f Mbit/s\n", out.InboundMbps)
			if out.KbpsForDays != nil {
				fmt.Fprintf(w, "for %g days  %.0f kbit/s a camera\n", days, *out.KbpsForDays)
			}
			return nil
		},
	}
	c.Flags().StringVar(&disks, "disks", "", "how many disks of which size, as 4x4TB")
	c.Flags().StringVar(&raid, "raid", "none", "how they guard each other: none, 1, 10, 5 or 6")
	c.Flags().IntVar(&spares, "spares", 0, "disks that wait for another to fail")
	c.Flags().Float64Var(&reserve, "reserve", 0, "percent that the file system keeps for itself")
	c.Flags().IntVar(&cameras, "cameras", 1, "how many cameras are recorded")
	c.Flags().Float64Var(&kbps, "kbps", 0, "bitrate of each, kbit/s")
	c.Flags().Float64Var(&hours, "hours", 24, "hours a day that are recorded")
	c.Flags().Float64Var(&motion, "motion", 100, "percent of those hours in which something moves, where only that is recorded")
	c.Flags().Float64Var(&days, "days", 0, "reckon backwards: the bitrate for so many days")
	c.Flags().BoolVar(&asJSON, "json", false, "print one JSON object")
	return c
}
