package main

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"unlatch/core/decide/latch"
	"unlatch/core/stream/media"
)

// What commands read of the server's answers. The rest is printed as it comes, with --json.
type (
	siteRow struct {
		ID, Name                        string
		Ranges                          []string
		Cameras, Recorders, Done, Stuck int
		Funnel                          map[string]int
	}
	deviceRow struct {
		ID, Kind, Name, Address, Maker, Model, At string
		Next                                      nextStep
		Latches                                   []struct{ Name, State string }
		Streams                                   []streamRow
	}
	streamRow struct {
		Role, URL string
		Proof     *struct {
			OK    bool
			Video *media.Measured
		}
	}
	targetRow struct {
		ID, Name, Kind, Is, Address string
		Wanted                      []string
	}
)

// nextStep is what a person does next about a device, and what waits for an agreement, if anything does.
type nextStep struct {
	Action, Label, Reason, Fix string
	Wanted                     *struct{ Target, Secret, At, Certificate, Scheme string }
}

// chosen is a thing that commands name: by its ID, its name or its address.
type chosen struct{ id, name, address string }

// pick finds the one thing that a text names. Capitals do not count, and neither does what the beginning of a name leaves open.
func pick(kind, text string, among []chosen) (chosen, error) {
	low := strings.ToLower(strings.TrimSpace(text))
	for _, fits := range []func(chosen) bool{
		func(c chosen) bool { return c.id == low },
		func(c chosen) bool { return strings.ToLower(c.name) == low || c.address == low },
		func(c chosen) bool { return low != "" && strings.HasPrefix(strings.ToLower(c.name), low) },
	} {
		var hit []chosen
		for _, c := range among {
			if fits(c) {
				hit = append(hit, c)
			}
		}
		switch {
		case len(hit) == 1:
			return hit[0], nil
		case len(hit) > 1:
			return chosen{}, usageError{fmt.Errorf("%q is the %s of %d: give an address or an ID, such as %s", text, kind, len(hit), hit[0].id)}
		}
	}
	if names := namesOf(among); names != "" {
		return chosen{}, usageError{fmt.Errorf("there is no %s %q; there is %s", kind, text, names)}
	}
	return chosen{}, usageError{fmt.Errorf("there is no %s %q", kind, text)}
}

// mostNamed is how many things an error names.
const mostNamed = 5

func namesOf(list []chosen) string {
	var names []string
	for _, c := range list[:min(len(list), mostNamed)] {
		names = append(names, c.name)
	}
	if len(list) > mostNamed {
		names = append(names, fmt.Sprintf("%d more", len(list)-mostNamed))
	}
	return strings.Join(names, ", ")
}

func (r *remote) sites(ctx context.Context) (rows []siteRow, raw []byte, err error) {
	raw, err = r.Call(ctx, "list-sites", of(), nil, &rows)
	return rows, raw, err
}

// site finds the site of a command: named by its argument, by --site or UNLATCH_SITE, or the only one there is.
func (r *remote) site(ctx context.Context, name string) (chosen, error) {
	if name == "" {
		name, _ = r.cmd.Flags().GetString("site")
	}
	if name == "" {
		name = os.Getenv("UNLATCH_SITE")
	}
	rows, _, err := r.sites(ctx)
	if err != nil {
		return chosen{}, err
	}
	list := make([]chosen, len(rows))
	for i, s := range rows {
		list[i] = chosen{id: s.ID, name: s.Name}
	}
	if name == "" && len(list) == 1 {
		return list[0], nil
	}
	if name == "" {
		return chosen{}, usageError{errors.New("say which site: --site NAME; there is " + namesOf(list))}
	}
	return pick("site", name, list)
}

func (r *remote) devices(ctx context.Context, site string) (rows []deviceRow, raw []byte, err error) {
	raw, err = r.Call(ctx, "list-devices", of("site", site), nil, &rows)
	return rows, raw, err
}

func (r *remote) targets(ctx context.Context, site string) (rows []targetRow, raw []byte, err error) {
	raw, err = r.Call(ctx, "list-targets", of("site", site), nil, &rows)
	return rows, raw, err
}

func (r *remote) target(ctx context.Context, site, name string) (chosen, error) {
	rows, _, err := r.targets(ctx, site)
	if err != nil {
		return chosen{}, err
	}
	list := make([]chosen, len(rows))
	for i, t := range rows {
		list[i] = chosen{t.ID, t.Name, t.Address}
	}
	return pick("target", name, list)
}

// A selection is which devices a command is for.
type selection struct {
	at  string // the latch that they wait at
	all bool
}

// choosing adds the flags of a selection to a command that takes cameras.
func choosing(c *cobra.Command, s *selection) {
	c.Flags().String("site", "", "the site, by name or ID; UNLATCH_SITE, or the only one, where it is missing")
	c.Flags().StringVar(&s.at, "at", "", "all cameras that wait at a latch, or all that are done: "+latchNames())
	c.Flags().BoolVar(&s.all, "all", false, "all cameras and recorders of the site")
	c.RegisterFlagCompletionFunc("site", completeSites)
	c.RegisterFlagCompletionFunc("at", cobra.FixedCompletions(latchList(), cobra.ShellCompDirectiveNoFileComp))
	c.ValidArgsFunction = completeDevices
}

// done is what stands for no latch: all of a camera's are open.
const done = "done"

func latchList() []string {
	out := make([]string, 0, len(latch.Names)+1)
	for _, n := range latch.Names {
		out = append(out, string(n))
	}
	return append(out, done)
}

func latchNames() string { return strings.Join(latchList(), ", ") }

// cameras returns the devices of a site that arguments and flags name, by address as the server lists them.
func (r *remote) cameras(ctx context.Context, site string, args []string, s selection) ([]deviceRow, error) {
	if s.at != "" && !slices.Contains(latchList(), s.at) {
		return nil, usageError{fmt.Errorf("there is no latch %q; there is %s", s.at, latchNames())}
	}
	if len(args) == 0 && s.at == "" && !s.all {
		return nil, usageError{errors.New("say which cameras: names, addresses or IDs, --at LATCH, or --all")}
	}
	rows, _, err := r.devices(ctx, site)
	if err != nil {
		return nil, err
	}
	if len(args) == 0 {
		return slices.DeleteFunc(rows, func(d deviceRow) bool { return d.Kind == "other" || s.at != "" && cmp.Or(d.At, done) != s.at }), nil
	}
	list := make([]chosen, len(rows))
	byID := map[string]deviceRow{}
	for i, d := range rows {
		list[i], byID[d.ID] = chosen{d.ID, d.Name, d.Address}, d
	}
	var out []deviceRow
	for _, a := range args {
		c, err := pick("camera", a, list)
		if err != nil {
			return nil, err
		}
		if !slices.ContainsFunc(out, func(d deviceRow) bool { return d.ID == c.id }) {
			out = append(out, byID[c.id])
		}
	}
	return out, nil
}

func idsOf(rows []deviceRow) []string {
	out := make([]string, len(rows))
	for i, d := range rows {
		out[i] = d.ID
	}
	return out
}

// completeSites offers the names of the server's sites.
func completeSites(cmd *cobra.Command, _ []string, _ string) ([]string, cobra.ShellCompDirective) {
	return complete(cmd, func(ctx context.Context, r *remote) (out []string, err error) {
		rows, _, err := r.sites(ctx)
		for _, s := range rows {
			out = append(out, s.Name)
		}
		return out, err
	})
}

func completeDevices(cmd *cobra.Command, _ []string, _ string) ([]string, cobra.ShellCompDirective) {
	return complete(cmd, func(ctx context.Context, r *remote) (out []string, err error) {
		site, err := r.site(ctx, "")
		if err != nil {
			return nil, err
		}
		rows, _, err := r.devices(ctx, site.id)
		for _, d := range rows {
			out = append(out, d.Name+"\t"+d.Address)
		}
		return out, err
	})
}

func completeTargets(cmd *cobra.Command, _ []string, _ string) ([]string, cobra.ShellCompDirective) {
	return complete(cmd, func(ctx context.Context, r *remote) (out []string, err error) {
		site, err := r.site(ctx, "")
		if err != nil {
			return nil, err
		}
		rows, _, err := r.targets(ctx, site.id)
		for _, t := range rows {
			out = append(out, t.Name+"\t"+t.Is)
		}
		return out, err
	})
}

// complete asks the server for names. A shell that asks in vain offers nothing.
func complete(cmd *cobra.Command, names func(context.Context, *remote) ([]string, error)) ([]string, cobra.ShellCompDirective) {
	r, err := connect(cmd)
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	out, err := names(cmd.Context(), r)
	if err != nil {
		return nil, cobra.ShellCompDirectiveError
	}
	return out, cobra.ShellCompDirectiveNoFileComp
}
