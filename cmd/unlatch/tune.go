package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"time"

	"github.com/spf13/cobra"

	"unlatch/core/ground/address"
	"unlatch/core/ground/signin"
	"unlatch/core/ground/streamurl"
	"unlatch/core/stream/camera"
	"unlatch/core/stream/media"
	"unlatch/core/stream/tuning"
	"unlatch/core/wire/onvif"
	"unlatch/core/work/prove"
	"unlatch/core/work/tuner"
)

// readable lets a sign-in out in whatever scheme the device wants: whoever names one device and one sign-in on a command line has agreed.
var readable = signin.Policy{Agreed: signin.InClear}.Leave

// findService returns a client of the device service at ADDRESS or ADDRESS:PORT, and the guard that lets out to that address alone.
func findService(ctx context.Context, at string, in signin.SignIn) (*onvif.Client, *address.Guard, error) {
	host, port := at, ""
	if ap, err := netip.ParseAddrPort(at); err == nil {
		host, port = ap.Addr().String(), fmt.Sprint(ap.Port())
	}
	addr, err := netip.ParseAddr(host)
	if err != nil {
		return nil, nil, usageError{fmt.Errorf("%q is not an address; write it like 192.0.2.20 or 192.0.2.20:8080", at)}
	}
	guard := &address.Guard{Allowed: address.MustParse(addr.String())}
	var last error
	for _, service := range tuner.Services(addr.String(), port) {
		c := onvif.New(service, onvif.Options{Dial: guard, SignIn: in, Leave: readable, InScope: guard.Allowed.Contains,
			Timeout: 10 * time.Second})
		if _, last = c.Clock(ctx); last == nil {
			return c, guard, nil
		}
		c.Close()
	}
	return nil, nil, fmt.Errorf("no device service answers at %s: %w", at, last)
}

func streamsCommand() *cobra.Command {
	var user string
	var fromStdin, asJSON bool
	var channel int
	var cameras selection
	c := &cobra.Command{
		Use:   "streams ADDRESS[:PORT] | streams --site SITE CAMERA...",
		Short: "List the streams of a device, or those of cameras of a site as the server has measured them",
		Long: "Streams asks a device service for its streams: how they are set and what they offer. The service is at the port, or is\n" +
			"looked for at the usual ones. With --site, --at or --all, the server is asked for those of cameras of a site.\n" +
			"Exit 0 when they were told, 1 when not, 2 on wrong use.",
		RunE: func(cmd *cobra.Command, args []string) error {
			if cmd.Flags().Changed("site") || cameras != (selection{}) {
				return streamsOfSite(cmd, args, cameras)
			}
			c, _, _, err := serviceOf(cmd, args, user, fromStdin)
			if err != nil {
				return err
			}
			defer c.Close()
			view, err := tuner.Read(cmd.Context(), c, tuner.Camera{Channel: channel})
			if err != nil {
				return err
			}
			if asJSON {
				return encode(cmd.OutOrStdout(), view)
			}
			for _, s := range view.Streams {
				printStream(cmd.OutOrStdout(), s)
			}
			printRest(cmd.OutOrStdout(), view)
			return nil
		},
	}
	signInFlags(c, &user, &fromStdin)
	channelFlag(c, &channel)
	choosing(c, &cameras)
	c.Flags().BoolVar(&asJSON, "json", false, "print one JSON object")
	return c
}

func channelFlag(c *cobra.Command, channel *int) {
	c.Flags().IntVar(channel, "channel", 1, "channel of a recorder")
}

// signInFlags are the flags of a sign-in.
func signInFlags(c *cobra.Command, user *string, fromStdin *bool) {
	c.Flags().StringVar(user, "user", "", "user name")
	c.Flags().BoolVar(fromStdin, "password-stdin", false, "read the password from standard input")
}

// serviceOf returns the client of the one device that the arguments name.
func serviceOf(cmd *cobra.Command, args []string, user string, fromStdin bool) (*onvif.Client, *address.Guard, signin.SignIn, error) {
	if len(args) != 1 {
		return nil, nil, signin.SignIn{}, usageError{fmt.Errorf("%s takes one address, such as 192.0.2.20", cmd.Name())}
	}
	in, err := readSignIn(cmd, user, fromStdin)
	if err != nil {
		return nil, nil, in, usageError{err}
	}
	c, guard, err := findService(cmd.Context(), args[0], in)
	return c, guard, in, err
}

func printStream(w io.Writer, s tuner.Stream) {
	e := s.Encoder
	fmt.Fprintf(w, "%-5s %s  %s %s, %s, %g fps, %d kbit/s, key frame every %d frames\n", s.Role, s.Token, e.Codec, e.Profile, e.Size(),
		e.FPS, e.Kbps, e.GOPFrames)
	fmt.Fprintf(w, "      %s\n", s.URL)
	if s.Problem != "" {
		fmt.Fprintf(w, "      what it offers is not known: %s\n", s.Problem)
	}
	for _, o := range s.Offers.Codecs {
		fmt.Fprintf(w, "      offers %s", o.Codec)
		for _, size := range o.Sizes {
			fmt.Fprintf(w, " %s", size)
		}
		if len(o.FPS) > 0 {
			fmt.Fprintf(w, ", %g fps", o.FPS)
		} else {
			fmt.Fprintf(w, ", %g to %g fps", o.FPSSpan.Min, o.FPSSpan.Max)
		}
		fmt.Fprintf(w, ", %g to %g kbit/s\n", o.Kbps.Min, o.Kbps.Max)
	}
}

// printRest says what a device has beside its streams.
func printRest(w io.Writer, v *tuner.View) {
	if v.Instances > 0 {
		fmt.Fprintf(w, "it sends %d streams at once, by its own word\n", v.Instances)
	}
	if v.Makes {
		fmt.Fprintln(w, "a stream that it does not have can be made")
	}
	if v.Overlays.Most > 0 {
		fmt.Fprintf(w, "it draws up to %d texts into the picture, and draws %d\n", v.Overlays.Most, len(v.Overlays.Has))
	}
}

func tuneCommand() *cobra.Command {
	var user, name string
	var channel int
	var fromStdin, asJSON, dryRun bool
	var cameras selection
	var wait waiter
	wants := map[string]*string{}
	c := &cobra.Command{
		Use:   "tune ADDRESS[:PORT] | tune --site SITE CAMERA... --main h264,1280x720,15fps,2000kbps,cbr,gop30",
		Short: "Set the streams of a device, or have the server set those of cameras of a site; read back, play and compare",
		Long: "Tune sends wanted settings to one device, reads them back, plays the streams and compares. What is left out stays as " +
			"it is; what the device\n" +
			"does not offer to the digit is rounded to the nearest that it does. Exit 0 only when what was measured is what was wanted, " +
			"1 when not,\n" +
			"2 on wrong use. With --dry-run nothing is sent, and it exits 0 when the device refuses nothing.",
		RunE: func(cmd *cobra.Command, args []string) error {
			plan := tuning.Plan{}
			for part, text := range wants {
				if *text == "" {
					continue
				}
				one, err := tuning.ParsePlan(map[string]string{part: *text})
				if err != nil {
					return usageError{fmt.Errorf("--%s: %w", part, err)}
				}
				plan = plan.With(one)
			}
			if plan.IsZero() {
				return usageError{errors.New("say what is wanted: --main, --sub, --third or --overlay")}
			}
			if cmd.Flags().Changed("site") {
				return tuneSite(cmd, args, wants, cameras, wait)
			}
			c, guard, in, err := serviceOf(cmd, args, user, fromStdin)
			if err != nil {
				return err
			}
			defer c.Close()
			out, err := tuner.Tune(cmd.Context(), c, tuner.Request{Camera: tuner.Camera{Channel: channel}, Plan: plan, Name: name,
				DryRun: dryRun, SignIn: in, Leave: readable,
				Prover: &prove.Prover{Dial: guard, Still: media.Still},
				Hold: func(ctx context.Context, url string) tuner.Held {
					u, err := streamurl.Parse(url)
					if err != nil {
						return tuner.Held{}
					}
					return tuner.Hold(ctx, &prove.Prover{Dial: guard}, prove.Request{URL: u, SignIn: in, Leave: readable}, nil)
				},
				Doing: func(what string) {
					if !asJSON {
						fmt.Fprintln(cmd.ErrOrStderr(), what)
					}
				},
				Before: func(was tuning.State) error {
					fmt.Fprintln(cmd.ErrOrStderr(), "to undo it: "+undoCommand(args[0], user, was.Encoders))
					return nil
				}})
			if out != nil {
				if asJSON {
					err = errors.Join(err, encode(cmd.OutOrStdout(), out))
				} else {
					printTuned(cmd.OutOrStdout(), out)
				}
			}
			if err == nil && (!dryRun && !out.Tuned || dryRun && len(out.Refused) > 0) {
				err = errNo
			}
			return err
		},
	}
	wantFlags(c, wants)
	c.Flags().StringVar(&name, "name", "", "the name to draw into the picture")
	channelFlag(c, &channel)
	signInFlags(c, &user, &fromStdin)
	c.Flags().BoolVar(&dryRun, "dry-run", false, "say what would change and send nothing")
	choosing(c, &cameras)
	wait.flags(c)
	c.Flags().BoolVar(&asJSON, "json", false, "print one JSON object")
	return c
}

// wantFlags are the flags of what is wanted of each part.
func wantFlags(c *cobra.Command, wants map[string]*string) {
	for _, role := range camera.Roles {
		wants[role] = c.Flags().String(role, "", "what is wanted of the "+role+" stream")
	}
	wants["overlay"] = c.Flags().String("overlay", "", `the text in the picture: "name, time, upper left", or none`)
}

// undoCommand returns the command that puts streams back.
func undoCommand(at, user string, was map[string]tuning.Encoder) string {
	text := "unlatch tune " + at
	if user != "" {
		text += " --user " + user
	}
	for _, role := range camera.Roles {
		if e, ok := was[role]; ok {
			text += fmt.Sprintf(" --%s '%s'", role, e.Plan())
		}
	}
	return text
}

func printTuned(w io.Writer, r *tuner.Result) {
	for _, c := range r.Changes {
		note := ""
		if c.Rounded() {
			note = fmt.Sprintf(" (asked for %s)", c.Asked)
		}
		fmt.Fprintf(w, "%-5s %-13s %s → %s%s\n", c.Stream, c.Field, c.From, c.To, note)
	}
	for _, x := range r.Refused {
		fmt.Fprintf(w, "%-5s %-13s %s refused: %s\n", x.Stream, x.Field, x.Asked, x.Why)
	}
	for _, s := range r.SideEffects {
		fmt.Fprintln(w, s)
	}
	for _, role := range camera.Roles {
		if v := r.Measured[role]; v != nil {
			fmt.Fprintf(w, "%-5s measured      %s, %d x %d, %.4g fps, %.0f kbit/s, key frame every %.3g frames\n", role, v.Codec, v.Width,
				v.Height, v.FPS, v.BitrateKbps, v.GOPFrames)
		}
		for _, f := range r.Off[role] {
			fmt.Fprintf(w, "%-5s %s\n", role, f)
		}
	}
	for _, p := range r.Problems {
		fmt.Fprintln(w, p)
	}
	if r.Tuned {
		fmt.Fprintln(w, "Tuned: what was measured is what was wanted")
	}
}
