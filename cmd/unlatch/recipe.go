package main

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"unlatch/core/ground/streamurl"
	"unlatch/core/stream/recipe"
)

func recipeCommand() *cobra.Command {
	c := &cobra.Command{Use: "recipe", Short: "Learn the shape of stream URLs, and expand it",
		RunE: func(cmd *cobra.Command, args []string) error {
			cmd.Usage()
			return usageError{errors.New("say learn or expand")}
		}}
	c.AddCommand(learnCommand(), expandCommand())
	return c
}

func learnCommand() *cobra.Command {
	var asJSON bool
	c := &cobra.Command{
		Use: "learn URL...", Short: "Propose the recipes that explain one or several working URLs",
		Long: "Learn reads the paths of working URLs of one kind of device and proposes the recipes that explain all of them, the likeliest " +
			"first. Two or three URLs\n" +
			"that differ say more than one. Exit 0 when there is a proposal, 1 when not, 2 on wrong use.",
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) == 0 || len(args) > recipe.MaxLearn {
				return usageError{fmt.Errorf("learn takes one to %d URLs", recipe.MaxLearn)}
			}
			var paths []string
			for _, a := range args {
				path := a
				if !strings.HasPrefix(a, "/") {
					r := streamurl.Repair(a)
					if !r.OK {
						return usageError{errors.New(r.Problem + "; " + r.Fix)}
					}
					path = r.URL.Target()
				}
				paths = append(paths, path)
			}
			list := recipe.Learn(paths)
			if asJSON {
				if list == nil {
					list = []recipe.Proposal{}
				}
				if err := encode(cmd.OutOrStdout(), list); err != nil {
					return err
				}
			}
			for _, p := range list {
				if !asJSON {
					fmt.Fprintf(cmd.OutOrStdout(), "%s\n  %s\n", p.Shape, strings.Join(p.Why, "; "))
				}
			}
			if len(list) == 0 {
				fmt.Fprintln(cmd.ErrOrStderr(), "No recipe explains them all: no number in them can be a channel, and no word a tier.")
				return errNo
			}
			return nil
		},
	}
	c.Flags().BoolVar(&asJSON, "json", false, "print a JSON array")
	return c
}

func expandCommand() *cobra.Command {
	var asJSON, multicast bool
	var channels int
	c := &cobra.Command{
		Use: "expand RECIPE", Short: "Print the paths of a recipe",
		Long: "Expand prints the path of every stream of the first channels, as unlatch recipe expand '/ch{channel}/{tier:main|sub}' " +
			"--channels 4.",
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) != 1 {
				return usageError{errors.New("expand takes one recipe, such as '/ch{channel}/{tier:main|sub}'")}
			}
			if channels < 1 || channels > recipe.MaxChannel {
				return usageError{fmt.Errorf("--channels takes a number from 1 to %d", recipe.MaxChannel)}
			}
			t, err := recipe.Parse(args[0])
			if err != nil {
				return usageError{err}
			}
			type line struct {
				recipe.Values
				Path string `json:"path"`
			}
			list := []line{}
			for _, v := range t.All(channels, multicast) {
				path, err := t.Expand(v)
				if err != nil {
					return err
				}
				list = append(list, line{v, path})
				if !asJSON {
					fmt.Fprintln(cmd.OutOrStdout(), path)
				}
			}
			if asJSON {
				return encode(cmd.OutOrStdout(), list)
			}
			return nil
		},
	}
	c.Flags().IntVar(&channels, "channels", 1, "how many channels")
	c.Flags().BoolVar(&multicast, "multicast", false, "print the multicast forms too")
	c.Flags().BoolVar(&asJSON, "json", false, "print a JSON array with the values")
	return c
}

func encode(w io.Writer, v any) error {
	enc := json.NewEncoder(w)
	enc.SetEscapeHTML(false)
	enc.SetIndent("", "  ")
	return enc.Encode(v)
}
