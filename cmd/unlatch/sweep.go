package main

import (
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"unlatch/core/decide/identity"
	"unlatch/core/ground/address"
	"unlatch/core/stream/sighting"
	"unlatch/core/wire/discovery"
)

func sweepCommand() *cobra.Command {
	var ports string
	var asJSON, yes bool
	var ifaces []string
	var wait waiter
	c := &cobra.Command{
		Use: "sweep CIDR... | sweep --site SITE", Short: "Find the devices in address ranges, or have the server find those of a site",
		Long: "Sweep listens for devices by WS-Discovery on every interface and asks the given ports of every address in the ranges.\n" +
			"With --site the server sweeps the ranges of one of its sites.\n" +
			"Exit 0 when something was found, 1 when nothing was, 2 on wrong use.",
		RunE: func(cmd *cobra.Command, args []string) error {
			if cmd.Flags().Changed("site") {
				if len(args) > 0 {
					return usageError{errors.New("a site has its own ranges: leave them out, or leave --site out")}
				}
				return sweepSite(cmd, yes, wait)
			}
			ranges, err := address.Parse(args...)
			if err == nil && ranges.Empty() {
				err = errors.New("name at least one range, such as 192.0.2.0/24")
			}
			if err == nil && !yes {
				if err = ranges.Check(); err != nil {
					err = fmt.Errorf("%w; or add --yes", err)
				}
			}
			list, perr := discovery.ParsePorts(ports)
			if err = errors.Join(err, perr); err != nil {
				return usageError{err}
			}
			s := discovery.Sweep{Ranges: ranges, Ports: list, Interfaces: ifaces, EveryInterface: ifaces == nil}
			return runSweep(cmd, s, asJSON)
		},
	}
	c.Flags().StringVar(&ports, "ports", "80,443,554,8080,8554", "ports to ask, such as 80,554,8000-8010")
	c.Flags().BoolVar(&asJSON, "json", false, "print one JSON object")
	c.Flags().BoolVar(&yes, "yes", false, "sweep more than 65,536 addresses")
	c.Flags().StringSliceVar(&ifaces, "interface", nil, "listen on these interfaces only")
	siteFlag(c)
	wait.flags(c)
	return c
}

func runSweep(cmd *cobra.Command, s discovery.Sweep, asJSON bool) error {
	began := time.Now()
	var heard []sighting.Sighting
	err := s.Run(cmd.Context(), func(x sighting.Sighting) { heard = append(heard, x) })
	found := identity.Merge(heard)
	if err != nil && len(found) == 0 {
		return err
	}
	if asJSON {
		enc := json.NewEncoder(cmd.OutOrStdout())
		enc.SetIndent("", "  ")
		if found == nil {
			found = []identity.Device{}
		}
		if jerr := enc.Encode(map[string]any{"devices": found, "addresses": s.Ranges.Count(),
			"ms": time.Since(began).Milliseconds()}); jerr != nil {
			return jerr
		}
	} else {
		printDevices(cmd, found, s.Ranges, began)
	}
	if err != nil {
		return err
	}
	if len(found) == 0 {
		return errNo
	}
	return nil
}

func printDevices(cmd *cobra.Command, found []identity.Device, ranges address.Ranges, began time.Time) {
	out := cmd.OutOrStdout()
	if len(found) == 0 {
		fmt.Fprintf(out, "Nothing answered in %s.\nCheck the cable and the range; this machine's own networks are shown by: ip addr\n", ranges)
		return
	}
	w := tabwriter.NewWriter(out, 0, 0, 2, ' ', 0)
	fmt.Fprintln(w, "ADDRESS\tKIND\tNAME\tPORTS\tHEARD BY")
	for _, d := range found {
		var ports []string
		for _, p := range d.Ports {
			ports = append(ports, p.String())
		}
		kind := string(d.Kind)
		if d.Stray {
			kind += ", stray"
		}
		fmt.Fprintf(w, "%s\t%s\t%s\t%s\t%s\n", d.Addr, kind, d.Name, strings.Join(ports, ", "), strings.Join(d.Methods, ", "))
	}
	w.Flush()
	fmt.Fprintf(out, "%d devices in %s, %.1f s\n", len(found), ranges, time.Since(began).Seconds())
}
