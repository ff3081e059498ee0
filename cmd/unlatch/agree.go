package main

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"unlatch/core/wire/target"
)

// secrets are what a target may have to be handed so that others can read it, in the order of their weight.
var secrets = []string{string(target.CameraSignIn), string(target.OwnSignIn), string(target.StreamKey)}

func agreeCommand() *cobra.Command {
	var secret string
	var x waiter
	c := onServer(&cobra.Command{Use: "agree TARGET", Short: "Agree that a secret may go to a target so that others can read it, and go on",
		Long: "Agree says for one target that a secret may go to it although others on the way can read it. Where cameras wait for that\n" +
			"already, it holds for exactly the target that they wait for, and the work on them goes on; else for whoever answers there first."},
		func(ctx context.Context, r *remote, args []string) error {
			if len(args) != 1 {
				return usageError{errors.New("name one target")}
			}
			if !slices.Contains(secrets, secret) {
				return usageError{fmt.Errorf("there is no secret %q; there is %s", secret, strings.Join(secrets, ", "))}
			}
			site, err := r.site(ctx, "")
			if err != nil {
				return err
			}
			t, err := r.target(ctx, site.id, args[0])
			if err != nil {
				return err
			}
			rows, _, err := r.devices(ctx, site.id)
			if err != nil {
				return err
			}
			body := map[string]any{"secret": secret}
			var waiting []string
			for _, d := range rows {
				w := d.Next.Wanted
				if d.Next.Action != "agree_target" || w == nil || w.Target != t.id || w.Secret != secret {
					continue
				}
				waiting = append(waiting, d.ID)
				body["to"] = map[string]string{"at": w.At, "certificate": w.Certificate, "scheme": w.Scheme}
			}
			if waiting != nil {
				body["devices"] = waiting
			}
			return r.begin(ctx, "agree-for-target", of("site", site.id, "target", t.id), body, x, waiting...)
		})
	c.Flags().StringVar(&secret, "secret", secrets[0], "what may go to it: "+strings.Join(secrets, ", "))
	c.RegisterFlagCompletionFunc("secret", cobra.FixedCompletions(secrets, cobra.ShellCompDirectiveNoFileComp))
	c.ValidArgsFunction = completeTargets
	siteFlag(c)
	x.flags(c)
	return c
}
