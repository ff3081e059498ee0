package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/spf13/cobra"
)

func targetsCommand() *cobra.Command {
	c := onServer(&cobra.Command{Use: "targets", Short: "List what cameras of a site can be placed on", Args: noArgs},
		func(ctx context.Context, r *remote, _ []string) error {
			site, err := r.site(ctx, "")
			if err != nil {
				return err
			}
			rows, raw, err := r.targets(ctx, site.id)
			if err != nil {
				return err
			}
			return r.print(raw, func(w io.Writer) error {
				fmt.Fprintln(w, "NAME\tIS\tADDRESS\tCAMERAS")
				for _, t := range rows {
					fmt.Fprintf(w, "%s\t%s\t%s\t%d\n", t.Name, t.Is, t.Address, len(t.Wanted))
				}
				return nil
			})
		})
	siteFlag(c)
	c.AddCommand(agreeCommand(), addTargetCommand())
	return c
}

// targetKinds are what targets are added as, as the API names them.
var targetKinds = []string{"bridge", "hub", "feed", "template", "live"}

func addTargetCommand() *cobra.Command {
	var (
		kind, at, user, keyring string
		withPassword            bool
		agree                   []string
		settings                map[string]string
	)
	c := onServer(&cobra.Command{Use: "add NAME", Short: "Add a target to a site, and have the server look at it",
		Long: "Add tells the server of something that takes cameras. Connections leave to its address and port alone. A recorder that a\n" +
			"sweep finds is a target by itself and is not added."},
		func(ctx context.Context, r *remote, args []string) error {
			if len(args) != 1 {
				return usageError{errors.New("give the target one name")}
			}
			if !slices.Contains(targetKinds, kind) {
				return usageError{fmt.Errorf("there is no kind %q; there is %s", kind, strings.Join(targetKinds, ", "))}
			}
			if withPassword != (user != "") || user != "" && keyring != "" {
				return usageError{errors.New("a new sign-in takes --user and --password-stdin; one of the keyring takes --sign-in alone")}
			}
			site, err := r.site(ctx, "")
			if err != nil {
				return err
			}
			body := map[string]any{"name": args[0], "kind": kind, "address": at, "settings": settings}
			if len(agree) > 0 {
				body["agree"] = agree
			}
			if keyring != "" {
				key, err := r.signIn(ctx, keyring)
				if err != nil {
					return err
				}
				body["sign_in"] = key.id
			}
			if withPassword {
				secret, err := readSecret(r.cmd)
				if err != nil {
					return err
				}
				body["user"], body["secret"] = user, secret
			}
			var made struct{ ID string }
			raw, err := r.Call(ctx, "add-target", of("site", site.id), body, &made)
			if err != nil {
				return err
			}
			return r.print(raw, func(w io.Writer) error {
				fmt.Fprintf(w, "Added the target %s (%s).\n", args[0], made.ID)
				return nil
			})
		})
	c.Flags().StringVar(&kind, "kind", "bridge", "what it is reached by: "+strings.Join(targetKinds, ", "))
	c.Flags().StringVar(&at, "address", "", "where it answers, such as http://192.0.2.10:8081")
	c.Flags().StringVar(&keyring, "sign-in", "", "its sign-in on the keyring, by label or ID")
	signInFlags(c, &user, &withPassword)
	c.Flags().StringSliceVar(&agree, "agree", nil, "a secret that may go to it so that others can read it: "+strings.Join(secrets, ", "))
	c.Flags().StringToStringVar(&settings, "set", nil, "a setting of its kind, such as text=… of a template; may be given again")
	c.RegisterFlagCompletionFunc("kind", cobra.FixedCompletions(targetKinds, cobra.ShellCompDirectiveNoFileComp))
	siteFlag(c)
	return c
}

// signIn finds a sign-in of the keyring.
func (r *remote) signIn(ctx context.Context, name string) (chosen, error) {
	var rows []struct{ ID, Label string }
	if _, err := r.Call(ctx, "list-sign-ins", of(), nil, &rows); err != nil {
		return chosen{}, err
	}
	var list []chosen
	for _, s := range rows {
		list = append(list, chosen{id: s.ID, name: s.Label})
	}
	return pick("sign-in", name, list)
}
