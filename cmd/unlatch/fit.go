package main

import (
	"errors"
	"fmt"
	"io"
	"os"
	"time"

	"github.com/spf13/cobra"

	"unlatch/core/decide/fit"
	"unlatch/core/decide/proof"
	"unlatch/core/ground/signin"
	"unlatch/core/ground/streamurl"
	"unlatch/core/stream/intake"
	"unlatch/core/stream/tuning"
	"unlatch/core/work/prove"
)

// fitAnswer is what the command says of one stream.
type fitAnswer struct {
	URL         string         `json:"url"`
	Fits        bool           `json:"fits"`
	Reasons     []fit.Reason   `json:"reasons"`
	NearestPlan *tuning.Stream `json:"nearest_plan"` // null where nothing has to change, or nothing would help
	Conflicts   []fit.Conflict `json:"conflicts,omitempty"`
}

const maxFit = 64

func fitCommand() *cobra.Command {
	var file, target, user string
	var fromStdin, asJSON bool
	c := &cobra.Command{
		Use: "fit --intake FILE URL...", Short: "Prove streams and compare them with what targets accept",
		Long: "Fit plays the URLs and compares what came with the intakes of a file: what does not fit and why, and the settings " +
			"nearest to the present\n" +
			"ones that would fit all of them. With --json one URL gives an object, several a list.\n" +
			"Exit 0 when all fit, 1 when not, 2 on wrong use.",
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) == 0 || len(args) > maxFit {
				return usageError{fmt.Errorf("fit takes one to %d URLs", maxFit)}
			}
			all, err := readIntakes(file, target)
			if err != nil {
				return usageError{err}
			}
			var urls []streamurl.URL
			for _, a := range args {
				u, err := streamurl.Parse(a)
				if err != nil {
					return usageError{err}
				}
				urls = append(urls, u)
			}
			in, err := readSignIn(cmd, user, fromStdin)
			if err != nil {
				return usageError{err}
			}
			var out []fitAnswer
			every := true
			for _, u := range urls {
				a := fitOne(u, in, all, func(req prove.Request) proof.Proof { return proveURL(cmd.Context(), req) })
				every = every && a.Fits
				out = append(out, a)
			}
			switch {
			case asJSON && len(out) == 1:
				err = encode(cmd.OutOrStdout(), out[0])
			case asJSON:
				err = encode(cmd.OutOrStdout(), out)
			default:
				printFit(cmd.OutOrStdout(), out)
			}
			if err == nil && !every {
				err = errNo
			}
			return err
		},
	}
	c.Flags().StringVar(&file, "intake", "", "intake file in YAML; without it those that come with the product")
	c.Flags().StringVar(&target, "target", "", "one intake of the file by its name; without it all of them together")
	c.Flags().StringVar(&user, "user", "", "user name, where the URLs have none")
	c.Flags().BoolVar(&fromStdin, "password-stdin", false, "read the password from standard input")
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return c
}

// readIntakes reads the intakes to compare with.
func readIntakes(file, target string) ([]intake.Intake, error) {
	book := intake.Shipped()
	switch {
	case file == "" && target == "":
		return nil, errors.New("say with what to compare: --intake FILE, or --target NAME of those that come with the product")
	case file != "":
		raw, err := os.ReadFile(file)
		if err != nil {
			return nil, err
		}
		if book, err = intake.ReadBook(raw); err != nil {
			return nil, fmt.Errorf("%s: %w", file, err)
		}
	}
	if target == "" {
		return book.Intakes, nil
	}
	x, ok := book.Find(target)
	if !ok {
		return nil, fmt.Errorf("there is no intake %q", target)
	}
	return []intake.Intake{x}, nil
}

// fitOne proves one stream and compares it.
func fitOne(u streamurl.URL, in signin.SignIn, all []intake.Intake, play func(prove.Request) proof.Proof) fitAnswer {
	proof := play(prove.Request{URL: u, SignIn: in, Timeout: 10 * time.Second})
	a := fitAnswer{URL: proof.URL, Reasons: []fit.Reason{}}
	if d := proof.Diagnosis; d != nil {
		a.Reasons = append(a.Reasons, fit.Reason{Field: "picture", Has: d.Summary, Wants: "a stream that plays"})
		return a
	}
	if in.Anonymous() {
		in = u.SignIn
	}
	s := fit.OfProof(proof, "", u, in)
	for _, x := range all {
		a.Reasons = append(a.Reasons, fit.Check(s, x)...)
	}
	if a.Fits = len(a.Reasons) == 0; a.Fits {
		return a
	}
	plan, conflicts := fit.Nearest(s, all)
	if a.Conflicts = conflicts; plan != (tuning.Stream{}) {
		a.NearestPlan = &plan
	}
	return a
}

func printFit(w io.Writer, list []fitAnswer) {
	for _, a := range list {
		fmt.Fprintln(w, a.URL)
		if a.Fits {
			fmt.Fprintln(w, "  fits")
		}
		for _, r := range a.Reasons {
			fmt.Fprintf(w, "  %-12s has %s, %s wants %s\n", r.Field, r.Has, r.Target, r.Wants)
		}
		if a.NearestPlan != nil {
			fmt.Fprintf(w, "  nearest     %s\n", a.NearestPlan)
		}
		for _, c := range a.Conflicts {
			fmt.Fprintf(w, "  conflict    %s\n", c)
		}
	}
}
