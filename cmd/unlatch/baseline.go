package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"time"

	"github.com/spf13/cobra"

	"unlatch/client"
	"unlatch/core/decide/baseline"
	"unlatch/store"
)

// baselinesCommand lists, takes and compares the states of a site that were agreed on.
func baselinesCommand() *cobra.Command {
	c := onServer(&cobra.Command{Use: "baselines", Short: "List the states of a site that were agreed on", Args: noArgs},
		func(ctx context.Context, r *remote, _ []string) error {
			site, err := r.site(ctx, "")
			if err != nil {
				return err
			}
			rows, raw, err := r.baselines(ctx, site.id)
			if err != nil {
				return err
			}
			return r.print(raw, func(w io.Writer) error {
				fmt.Fprintln(w, "AGREED\tNAME\tBY\tDEVICES\tNOT FINISHED\tREASON")
				for _, b := range rows {
					fmt.Fprintf(w, "%s\t%s\t%s\t%d\t%d\t%s\n", b.At.Local().Format(time.DateTime), b.Name, b.By, b.Devices, b.Unfinished, b.Reason)
				}
				return nil
			})
		})
	siteFlag(c)
	c.AddCommand(takeBaselineCommand(), compareCommand())
	return c
}

func (r *remote) baselines(ctx context.Context, site string) (rows []store.Baseline, raw []byte, err error) {
	raw, err = r.Call(ctx, "list-baselines", of("site", site), nil, &rows)
	return rows, raw, err
}

func takeBaselineCommand() *cobra.Command {
	var reason string
	c := onServer(&cobra.Command{Use: "take NAME", Short: "Keep the state of a site, as it is known now, as agreed on",
		Long: "Take keeps what is known of all devices of the site. Where some are not finished, say why that is agreed on: --reason."},
		func(ctx context.Context, r *remote, args []string) error {
			if len(args) != 1 {
				return usageError{errors.New("give the agreed state one name")}
			}
			site, err := r.site(ctx, "")
			if err != nil {
				return err
			}
			_, err = r.Call(ctx, "take-baseline", of("site", site.id), map[string]string{"name": args[0], "reason": reason}, nil)
			return err
		})
	c.Flags().StringVar(&reason, "reason", "", "why it is agreed on, where devices are not finished")
	siteFlag(c)
	return c
}

func compareCommand() *cobra.Command {
	c := onServer(&cobra.Command{Use: "compare [SINCE] [UNTIL]", Short: "Tell what has changed since a state was agreed on",
		Long: "Compare tells, by device and field, what has changed since a state was agreed on: the newest one, or the one named; up to now,\n" +
			"or up to another one.\nExit 0 when nothing has changed, 1 when something has, 2 on wrong use."},
		func(ctx context.Context, r *remote, args []string) error {
			if len(args) > 2 {
				return usageError{errors.New("name at most two agreed states")}
			}
			site, err := r.site(ctx, "")
			if err != nil {
				return err
			}
			rows, _, err := r.baselines(ctx, site.id)
			if err != nil {
				return err
			}
			if len(rows) == 0 {
				return usageError{errors.New("nothing is agreed on at this site yet: unlatch baselines take NAME")}
			}
			p := of("site", site.id, "baseline", rows[0].ID.String())
			for i, name := range args {
				b, err := pickBaseline(rows, name)
				if err != nil {
					return err
				}
				if i == 0 {
					p.Path["baseline"] = b.id
				} else {
					p.Query.Set("with", b.id)
				}
			}
			return r.compare(ctx, p)
		})
	siteFlag(c)
	return c
}

// pickBaseline returns the agreed state of a name; of several of one name it is to be named by its ID.
func pickBaseline(rows []store.Baseline, name string) (chosen, error) {
	list := make([]chosen, len(rows))
	for i, b := range rows {
		list[i] = chosen{id: b.ID.String(), name: b.Name}
	}
	return pick("agreed state", name, list)
}

// compare prints what differs, a device with its fields below it.
func (r *remote) compare(ctx context.Context, p client.Params) error {
	var differs struct {
		Changes []baseline.DeviceChange `json:"changes"`
		Same    int                     `json:"same"`
	}
	raw, err := r.Call(ctx, "compare-baseline", p, nil, &differs)
	if err != nil {
		return err
	}
	err = r.print(raw, func(w io.Writer) error {
		for _, c := range differs.Changes {
			fmt.Fprintf(w, "%s\t%s\n", c.Title, c.Is)
			for _, f := range c.Fields {
				fmt.Fprintf(w, "  %s\n", f)
			}
		}
		fmt.Fprintf(w, "As agreed: %d\n", differs.Same)
		return nil
	})
	if err == nil && len(differs.Changes) > 0 {
		return errNo
	}
	return err
}
