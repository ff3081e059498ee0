package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"net/url"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"
	"github.com/go-chi/chi/v5"
	"github.com/spf13/cobra"

	"unlatch/core/ground/address"
	"unlatch/core/ground/signin"
	"unlatch/core/wire/bridge"
)

func bridgeCommand() *cobra.Command {
	c := &cobra.Command{Use: "bridge", Short: "Test a bridge to a target against the open contract (docs/bridge.md)"}
	c.AddCommand(bridgeCheckCommand(), &cobra.Command{Use: "document", Short: "Print the contract as an OpenAPI document", Args: noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			raw, err := bridgeDocument()
			if err == nil {
				_, err = fmt.Fprintf(cmd.OutOrStdout(), "%s\n", raw)
			}
			return err
		}})
	return c
}

func bridgeCheckCommand() *cobra.Command {
	var user, stream string
	var readOnly, plain, fromStdin bool
	c := &cobra.Command{Use: "check URL", Short: "Ask a bridge everything of the contract and say what is wrong",
		Long: "Check asks a bridge everything of the contract and says what is wrong. Entries of its own are put into free slots and " +
			"taken away again.\n" +
			"Exit 0 when it keeps the contract, 1 when not, 2 on wrong use.",
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) != 1 {
				return usageError{errors.New("check takes one address of a bridge")}
			}
			in, err := readSignIn(cmd, user, fromStdin)
			if err != nil {
				return usageError{err}
			}
			return checkBridge(cmd.Context(), args[0], in, bridge.Checker{StreamURL: stream, ReadOnly: readOnly}, plain, cmd.OutOrStdout())
		}}
	c.Flags().StringVar(&user, "user", "", "the bridge's user")
	c.Flags().BoolVar(&fromStdin, "password-stdin", false, "read the password from standard input")
	c.Flags().StringVar(&stream, "stream", "", "a stream URL to put, where the target wants a real one")
	c.Flags().BoolVar(&readOnly, "read-only", false, "ask, and change nothing")
	c.Flags().BoolVar(&plain, "readable", false, "let the sign-in go out so that it can be read, where the bridge takes no other")
	return c
}

func checkBridge(ctx context.Context, at string, in signin.SignIn, c bridge.Checker, plain bool, out io.Writer) error {
	u, err := url.Parse(at)
	if err != nil {
		return usageError{errors.New("the address cannot be read")}
	}
	addr, err := netip.ParseAddr(u.Hostname())
	if err != nil {
		return usageError{errors.New("give the bridge's address in numbers, like http://192.0.2.10:8081")}
	}
	guard := &address.Guard{Allowed: address.MustParse(addr.String())}
	agreed := signin.NotAgreed
	if plain {
		agreed = signin.InClear
	}
	open := func(in signin.SignIn) (*bridge.Client, error) {
		return bridge.New(at, bridge.Options{Dial: guard, SignIn: in, Leave: signin.Policy{Agreed: agreed}.Leave, Timeout: 5 * time.Second})
	}
	if c.Client, err = open(in); err != nil {
		return usageError{err}
	}
	defer c.Client.Close()
	if !in.Anonymous() {
		if c.Stranger, err = open(signin.SignIn{}); err != nil {
			return usageError{err}
		}
		defer c.Stranger.Close()
	}
	failed := 0
	for _, r := range c.Check(ctx) {
		switch {
		case r.Skipped:
			fmt.Fprintf(out, "–  %s: not checked, %s\n", r.What, r.Problem)
		case r.Problem != "":
			failed++
			fmt.Fprintf(out, "✕  %s\n     %s\n", r.What, r.Problem)
		default:
			fmt.Fprintf(out, "✓  %s\n", r.What)
		}
	}
	if failed > 0 {
		return fmt.Errorf("the bridge breaks the contract in %d of its points", failed)
	}
	fmt.Fprintln(out, "The bridge keeps the contract.")
	return nil
}

// bridgeDocument returns the contract as an OpenAPI document.
func bridgeDocument() ([]byte, error) {
	cfg := huma.DefaultConfig("The bridge contract", bridge.Version)
	cfg.Info.Description = "How Unlatch fills a target that no open standard describes. Errors are application/problem+json with a " +
		"type of the " +
		"contract. Sign in by HTTP digest or basic. See bridge.md."
	cfg.DocsPath, cfg.SchemasPath, cfg.OpenAPIPath, cfg.CreateHooks = "", "", "", nil
	cfg.Components.SecuritySchemes = map[string]*huma.SecurityScheme{"digest": {Type: "http", Scheme: "digest"}}
	api := humachi.New(chi.NewRouter(), cfg)
	describeSlots(api)
	describeAbilities(api)
	return json.MarshalIndent(api.OpenAPI(), "", " ")
}

// slotPath names a slot in the path. none is nothing.
type (
	slotPath struct {
		ID string `path:"id"`
	}
	none struct{}
)

// describeSlots describes what every bridge has.
func describeSlots(api huma.API) {
	describe(api, "GET", "/v1/target", "What stands behind the bridge", func(context.Context, *none) (*struct{ Body bridge.Target },
		error) {
		return nil, nil
	})
	describe(api, "GET", "/v1/slots", "All slots, in the target's order", func(context.Context, *none) (*struct{ Body bridge.Slots },
		error) {
		return nil, nil
	})
	describe(api, "GET", "/v1/slots/{id}", "One slot", func(context.Context, *slotPath) (*struct{ Body bridge.Slot },
		error) {
		return nil, nil
	})
	describe(api, "PUT", "/v1/slots/{id}", "Put an entry into a slot; an entry of the same key is given what is new",
		func(context.Context, *struct {
			slotPath
			Body bridge.Entry
		}) (*struct{ Body bridge.Slot }, error) {
			return nil, nil
		})
	describe(api, "DELETE", "/v1/slots/{id}", "Empty a slot; one that is empty is no error",
		func(context.Context, *slotPath) (*none, error) { return nil, nil })
}

// describeAbilities describes what a bridge has that says so in its abilities.
func describeAbilities(api huma.API) {
	describe(api, "POST", "/v1/slots/{id}/free", "Give up what blocks a slot (ability free)",
		func(context.Context, *slotPath) (*struct{ Body bridge.Slot }, error) { return nil, nil })
	describe(api, "POST", "/v1/slots/{id}/move", "Move an entry; two entries change places (ability move)", func(context.Context, *struct {
		slotPath
		Body struct {
			To string `json:"to"`
		}
	}) (*none, error) {
		return nil, nil
	})
	describe(api, "PUT", "/v1/order", "Set the order of the slots (ability order)", func(context.Context, *struct {
		Body struct {
			Slots []string `json:"slots"`
		}
	}) (*none, error) {
		return nil, nil
	})
	describe(api, "PUT", "/v1/slots/{id}/schedule", "Set when a slot records (ability schedule)", func(context.Context, *struct {
		slotPath
		Body bridge.Schedule
	}) (*none, error) {
		return nil, nil
	})
	describe(api, "GET", "/v1/slots/{id}/picture", "What a slot shows, as image/jpeg (ability picture)",
		func(context.Context, *slotPath) (*struct{ Body []byte }, error) {
			return nil, nil
		})
	describe(api, "POST", "/v1/slots/{id}/show", "Show a slot on a screen (ability show)", func(context.Context, *struct {
		slotPath
		Body struct {
			Screen string `json:"screen"`
		}
	}) (*struct{ Body bridge.Shown }, error) {
		return nil, nil
	})
	describe(api, "GET", "/v1/templates", "The templates that are defined (ability templates)", func(context.Context, *none) (*struct {
		Body struct {
			Templates []bridge.Template `json:"templates"`
		}
	}, error) {
		return nil, nil
	})
	describe(api, "PUT", "/v1/templates/{number}", "Define a template (ability templates)", func(context.Context, *struct {
		Number int `path:"number"`
		Body   bridge.Template
	}) (*none, error) {
		return nil, nil
	})
	describe(api, "PUT", "/v1/slots/{id}/push", "Send a slot on to a live platform (ability push)", func(context.Context, *struct {
		slotPath
		Body bridge.Push
	}) (*struct{ Body bridge.Slot }, error) {
		return nil, nil
	})
	describe(api, "DELETE", "/v1/slots/{id}/push", "End that", func(context.Context, *slotPath) (*none, error) { return nil, nil })
}

func describe[I, O any](api huma.API, method, path, summary string, none func(context.Context, *I) (*O, error)) {
	id := strings.ToLower(method) + strings.NewReplacer("/v1", "", "/", "-", "{", "", "}", "").Replace(path)
	huma.Register(api, huma.Operation{OperationID: id, Method: method, Path: path, Summary: summary}, none)
}
