package main

import (
	"context"
	"fmt"
	"io"
	"time"

	"github.com/spf13/cobra"
)

// A toldCause is what the command line reads of a finding.
type toldCause struct {
	IDs      []string  `json:"ids"`
	Severity string    `json:"severity"`
	Headline string    `json:"headline"`
	Do       string    `json:"do"`
	Since    time.Time `json:"since"`
	Repair   string    `json:"repair"`
	PutOff   time.Time `json:"put_off"`
}

// driftsCommand tells how a site differs from what was agreed on, and puts right what can be put right from here.
func driftsCommand() *cobra.Command {
	c := onServer(&cobra.Command{Use: "drifts", Short: "Tell how a site differs from what was agreed on", Args: noArgs,
		Long: "Drifts tells what of a watched site is no longer as it was agreed on, the gravest first.\n" +
			"Exit 0 when nothing is, 1 when something is, 2 on wrong use."},
		func(ctx context.Context, r *remote, _ []string) error {
			list, raw, err := r.drifts(ctx)
			if err != nil {
				return err
			}
			err = r.print(raw, func(w io.Writer) error {
				for _, f := range list {
					fmt.Fprintf(w, "%s\t%s\t%s\n\t\t%s\n", f.Severity, f.Since.Local().Format(time.DateTime), f.Headline, f.Do)
				}
				if len(list) == 0 {
					fmt.Fprintln(w, "Everything is as it was agreed.")
				}
				return nil
			})
			if err == nil && len(list) > 0 {
				return errNo
			}
			return err
		})
	siteFlag(c)
	repair := onServer(&cobra.Command{Use: "repair", Short: "Put back all that can be put back from here", Args: noArgs},
		func(ctx context.Context, r *remote, _ []string) error {
			list, _, err := r.drifts(ctx)
			if err != nil {
				return err
			}
			var ids []string
			for _, f := range list {
				if f.Repair != "" && !f.PutOff.After(time.Now()) {
					ids = append(ids, f.IDs...)
				}
			}
			if len(ids) == 0 {
				return fmt.Errorf("nothing that has drifted can be put right from here")
			}
			site, err := r.site(ctx, "")
			if err != nil {
				return err
			}
			_, err = r.Call(ctx, "repair-drifts", of("site", site.id), map[string][]string{"drifts": ids}, nil)
			return err
		})
	siteFlag(repair)
	c.AddCommand(repair)
	return c
}

func (r *remote) drifts(ctx context.Context) (list []toldCause, raw []byte, err error) {
	site, err := r.site(ctx, "")
	if err != nil {
		return nil, nil, err
	}
	var view struct {
		Findings []toldCause `json:"findings"`
	}
	raw, err = r.Call(ctx, "list-drifts", of("site", site.id), nil, &view)
	return view.Findings, raw, err
}
