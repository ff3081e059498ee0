package main

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/url"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"unlatch/client"
)

func sitesCommand() *cobra.Command {
	c := onServer(&cobra.Command{Use: "sites", Short: "List the sites of the server", Args: noArgs},
		func(ctx context.Context, r *remote, _ []string) error {
			rows, raw, err := r.sites(ctx)
			if err != nil {
				return err
			}
			return r.print(raw, func(w io.Writer) error {
				fmt.Fprintln(w, "NAME\tCAMERAS\tDONE\tSTUCK\tRECORDERS\tRANGES")
				for _, s := range rows {
					fmt.Fprintf(w, "%s\t%d\t%d\t%d\t%d\t%s\n", s.Name, s.Cameras, s.Done, s.Stuck, s.Recorders, strings.Join(s.Ranges, " "))
				}
				return nil
			})
		})
	c.AddCommand(onServer(&cobra.Command{Use: "add NAME RANGE...", Short: "Make a site with its address ranges"},
		func(ctx context.Context, r *remote, args []string) error {
			if len(args) < 2 {
				return usageError{errors.New("give the site a name and at least one range, such as 192.0.2.0/24")}
			}
			var made siteRow
			raw, err := r.Call(ctx, "create-site", of(), map[string]any{"name": args[0], "ranges": args[1:]}, &made)
			if err != nil {
				return err
			}
			return r.print(raw, func(w io.Writer) error {
				fmt.Fprintf(w, "Made the site %s (%s).\n", made.Name, made.ID)
				return nil
			})
		}))
	return c
}

func devicesCommand() *cobra.Command {
	var s selection
	c := onServer(&cobra.Command{Use: "devices [SITE]", Short: "List the devices of a site and the latch each waits at"},
		func(ctx context.Context, r *remote, args []string) error {
			if len(args) > 1 {
				return usageError{errors.New("name one site")}
			}
			site, err := r.site(ctx, first(args))
			if err != nil {
				return err
			}
			if s.at == "" {
				rows, raw, err := r.devices(ctx, site.id)
				if err != nil {
					return err
				}
				return r.print(raw, printsDevices(rows))
			}
			rows, err := r.cameras(ctx, site.id, nil, s)
			if err != nil {
				return err
			}
			raw, err := json.Marshal(rows)
			if err != nil {
				return err
			}
			return r.print(raw, printsDevices(rows))
		})
	choosing(c, &s)
	c.ValidArgsFunction = completeSites
	return c
}

func printsDevices(rows []deviceRow) func(io.Writer) error {
	return func(w io.Writer) error {
		fmt.Fprintln(w, "ADDRESS\tNAME\tMAKER AND MODEL\tAT\tNEXT")
		for _, d := range rows {
			fmt.Fprintf(w, "%s\t%s\t%s %s\t%s\t%s\n", d.Address, d.Name, d.Maker, d.Model, cmp.Or(d.At, done), d.Next.Label)
		}
		return nil
	}
}

// siteFlag adds --site to a command that is about one site.
func siteFlag(c *cobra.Command) {
	c.Flags().String("site", "", "the site, by name or ID; UNLATCH_SITE, or the only one, where it is missing")
	c.RegisterFlagCompletionFunc("site", completeSites)
}

func first(args []string) string {
	if len(args) == 0 {
		return ""
	}
	return args[0]
}

// theCamera finds the one camera that a command names.
func (r *remote) theCamera(ctx context.Context, args []string) (deviceRow, error) {
	if len(args) != 1 {
		return deviceRow{}, usageError{errors.New("name one camera, by its name, address or ID")}
	}
	site, err := r.site(ctx, "")
	if err != nil {
		return deviceRow{}, err
	}
	rows, err := r.cameras(ctx, site.id, args, selection{})
	if err != nil {
		return deviceRow{}, err
	}
	return rows[0], nil
}

type evidenceRow struct {
	ID       string
	At       time.Time
	Summary  string
	Exchange bool
}

func evidenceCommand() *cobra.Command {
	c := onServer(&cobra.Command{Use: "evidence CAMERA", Short: "Print what was found out about a camera, newest first"},
		func(ctx context.Context, r *remote, args []string) error {
			d, err := r.theCamera(ctx, args)
			if err != nil {
				return err
			}
			var rows []evidenceRow
			raw, err := r.Call(ctx, "list-evidence", of("device", d.ID), nil, &rows)
			if err != nil {
				return err
			}
			return r.print(raw, func(w io.Writer) error {
				for _, e := range rows {
					fmt.Fprintf(w, "%s\t%s\n", e.At.Local().Format(time.DateTime), e.Summary)
				}
				return nil
			})
		})
	siteFlag(c)
	c.ValidArgsFunction = completeDevices
	return c
}

func supportNoteCommand() *cobra.Command {
	var record string
	c := onServer(&cobra.Command{Use: "support-note CAMERA", Short: "Print a support note of a camera's last exchange, without secrets",
		Long: "Support-note prints what Unlatch and a camera said to each other last, in plain text and without any secret, for the maker's\n" +
			"support.\n" +
			"Exit 0 when there is such an exchange, 1 when not, 2 on wrong use."},
		func(ctx context.Context, r *remote, args []string) error {
			d, err := r.theCamera(ctx, args)
			if err != nil {
				return err
			}
			if record == "" {
				var rows []evidenceRow
				if _, err := r.Call(ctx, "list-evidence", of("device", d.ID), nil, &rows); err != nil {
					return err
				}
				var newest time.Time
				for _, e := range rows {
					if e.Exchange && !e.At.Before(newest) {
						record, newest = e.ID, e.At
					}
				}
			}
			if record == "" {
				fmt.Fprintf(r.cmd.ErrOrStderr(), "Nothing was said to %s yet: open its latches first.\n", d.Name)
				return errNo
			}
			var x struct{ Note string }
			raw, err := r.Call(ctx, "read-exchange", of("record", record), nil, &x)
			if err != nil {
				return err
			}
			if r.asJSON {
				return r.print(raw, nil)
			}
			_, err = fmt.Fprintln(r.cmd.OutOrStdout(), x.Note)
			return err
		})
	c.Flags().StringVar(&record, "record", "", "the ID of the exchange, as evidence --json prints it; the last one where it is missing")
	siteFlag(c)
	c.ValidArgsFunction = completeDevices
	return c
}

func signInsCommand() *cobra.Command {
	c := onServer(&cobra.Command{Use: "keyring", Short: "List the sign-ins of the keyring, without their passwords", Args: noArgs},
		func(ctx context.Context, r *remote, _ []string) error {
			var rows []struct{ ID, Label, User string }
			raw, err := r.Call(ctx, "list-sign-ins", of(), nil, &rows)
			if err != nil {
				return err
			}
			return r.print(raw, func(w io.Writer) error {
				fmt.Fprintln(w, "LABEL\tUSER")
				for _, s := range rows {
					fmt.Fprintf(w, "%s\t%s\n", s.Label, s.User)
				}
				return nil
			})
		})
	var user string
	add := onServer(&cobra.Command{Use: "add LABEL", Short: "Put a sign-in on the keyring, with its password from standard input"},
		func(ctx context.Context, r *remote, args []string) error {
			if len(args) != 1 || user == "" {
				return usageError{errors.New("give the sign-in a label, and its user with --user")}
			}
			secret, err := readSecret(r.cmd)
			if err != nil {
				return err
			}
			_, err = r.Call(ctx, "add-sign-in", of(), map[string]any{"label": args[0], "user": user, "secret": secret}, nil)
			if err == nil {
				fmt.Fprintf(r.cmd.OutOrStdout(), "Put %s on the keyring.\n", args[0])
			}
			return err
		})
	add.Flags().StringVar(&user, "user", "", "the user name")
	c.AddCommand(add)
	return c
}

func recordCommand() *cobra.Command {
	var person, act, device, text, from, to string
	var asCSV bool
	var most int
	c := onServer(&cobra.Command{Use: "record", Short: "Print who did what, newest first", Args: noArgs},
		func(ctx context.Context, r *remote, _ []string) error {
			q := url.Values{}
			for name, value := range map[string]string{"person": person, "act": act, "text": text, "from": from, "to": to} {
				if value != "" {
					q.Set(name, value)
				}
			}
			site, _ := r.cmd.Flags().GetString("site")
			if site != "" || device != "" {
				s, err := r.site(ctx, site)
				if err != nil {
					return err
				}
				q.Set("site", s.id)
				if device != "" {
					rows, err := r.cameras(ctx, s.id, []string{device}, selection{})
					if err != nil {
						return err
					}
					q.Set("device", rows[0].ID)
				}
			}
			if asCSV {
				raw, err := r.File(ctx, "/api/audit/file", q)
				if err == nil {
					_, err = r.cmd.OutOrStdout().Write(raw)
				}
				return err
			}
			return r.printRecord(ctx, q, most)
		})
	for _, f := range []struct {
		into       *string
		name, help string
	}{{&person, "person", "lines of one person"}, {&act, "act", "lines of one act, such as place"},
		{&device, "device", "lines that a camera stands in"}, {&text, "text", "words that stand in the line"},
		{&from, "from", "from a time on, such as 2026-11-29T08:00:00Z"}, {&to, "to", "before a time"}} {
		c.Flags().StringVar(f.into, f.name, "", f.help)
	}
	c.Flags().BoolVar(&asCSV, "csv", false, "print all lines as comma-separated values")
	c.Flags().IntVar(&most, "most", 50, "how many lines to print")
	siteFlag(c)
	c.AddCommand(verifyCommand())
	return c
}

type lineRow struct {
	Number                                                              int64
	At                                                                  time.Time
	Person, Token, Action, Subject, Before, After, Device, Target, Site string
}

// printRecord prints the newest lines, asking page by page.
func (r *remote) printRecord(ctx context.Context, q url.Values, most int) error {
	var all []lineRow
	var raws []any
	for len(all) < most {
		if len(all) > 0 {
			q.Set("before", fmt.Sprint(all[len(all)-1].Number))
		}
		var page []lineRow
		raw, err := r.Call(ctx, "list-acts", client.Params{Query: q}, nil, &page)
		if err != nil {
			return err
		}
		raws = append(raws, elements(raw)...)
		if all = append(all, page...); len(page) == 0 {
			break
		}
	}
	all, raws = all[:min(most, len(all))], raws[:min(most, len(raws))]
	raw, err := json.Marshal(raws)
	if err != nil {
		return err
	}
	return r.print(raw, func(w io.Writer) error {
		for _, l := range all {
			who := cmp.Or(l.Person, "Unlatch")
			if l.Token != "" {
				who += " by " + l.Token
			}
			what := l.Action + " " + l.Subject
			if l.Before != "" || l.After != "" {
				what += ": " + l.Before + " → " + l.After
			}
			fmt.Fprintf(w, "%d\t%s\t%s\t%s\n", l.Number, l.At.Local().Format(time.DateTime), who, what)
		}
		return nil
	})
}
