package main

import (
	"context"
	"crypto/rand"
	"encoding/base32"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"unlatch/demo"
	"unlatch/jobs"
	"unlatch/server"
	"unlatch/sim"
)

const demoPerson = "keeper"

func demoCommand() *cobra.Command {
	p := &place{}
	var network string
	c := &cobra.Command{Use: "demo", Short: "Run everything with the Tarnside railway", Args: noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return runDemo(cmd.Context(), p, network, cmd.OutOrStdout())
		}}
	p.flags(c, true)
	c.Flags().StringVar(&network, "network", demo.Network, "loopback network of the stand-ins; another lets two demos run on one machine")
	return c
}

func runDemo(ctx context.Context, p *place, network string, out io.Writer) error {
	scenario, err := demo.Scenario(network)
	if err != nil {
		return usageError{err}
	}
	l, err := p.listener()
	if err != nil {
		return err
	}
	defer l.Close()
	s, err := p.open(ctx)
	if err != nil {
		return err
	}
	defer s.Close()
	if p.relay == "" {
		p.relay, p.relayFaces, p.relayPages = network+demo.RelayAt, network+demo.FacesAt, network+demo.PagesAt
	}
	if _, err := s.workers(p, jobs.Options{}); err != nil {
		return err
	}
	password, err := openDemo(ctx, p, s, network)
	if err != nil {
		return err
	}
	if p.signOn.Issuer == "" {
		if err := startProvider(p, s, l.Addr().String(), network, password); err != nil {
			return err
		}
	}
	if err := s.startCabinet(ctx, p, l.Addr().String()); err != nil {
		fmt.Fprintf(out, "  The worker at the crossing does not start: %v\n", err)
	}
	fmt.Fprintf(out, "\n  Sign in as  %s\n  Password    %s\n", demoPerson, password)
	for _, x := range demo.Crew {
		fmt.Fprintf(out, "  or as       %s (%s)\n", x.Name, x.Role)
	}
	fmt.Fprintf(out, "  or by       %s, as %s\n", p.signOn.Name, demo.SignOnPerson)
	s.prepare(ctx, &preparation{place: p, scenario: scenario, network: network, screens: "http://" + l.Addr().String(), out: out})
	return s.serve(ctx, p, l, out)
}

// startProvider runs the railway's single sign-on beside the stand-ins, and has the server use it.
func startProvider(p *place, s *services, listens, network, password string) error {
	secret := rand.Text()
	provider, err := demo.StartProvider(network, listens, secret, password)
	if err != nil {
		return err
	}
	s.closers = append(s.closers, provider.Stop)
	p.signOn.Issuer, p.signOn.Name, p.signOn.RoleClaim = provider.Issuer, demo.ProviderName, demo.ProviderClaim
	p.signOn.Secret, p.signOn.roles = secret, demo.ProviderRoles
	return nil
}

// feedScreens gives the railway's screens the address of their list, as somebody does once who puts them up.
func feedScreens(ctx context.Context, s *services, w *sim.World, base string) error {
	sites, err := s.Store.Sites.List(ctx)
	if err != nil {
		return err
	}
	for _, site := range sites {
		list, err := s.Store.Targets.List(ctx, site.ID)
		if err != nil {
			return err
		}
		for _, t := range list {
			if t.Name != demo.FeedName {
				continue
			}
			token, err := s.Store.Targets.FeedToken(ctx, t.ID)
			if err != nil {
				return err
			}
			for _, screen := range w.Screens() {
				screen.SetFeed(base + "/feeds/" + token)
			}
		}
	}
	return nil
}

// openDemo makes the accounts, the sites and the keyring, once: all that needs no device. The password stands in a file beside the
// database, so that later starts can print it again.
func openDemo(ctx context.Context, p *place, s *services, network string) (password string, err error) {
	file := filepath.Join(p.data, "demo-password")
	if has, err := s.Store.People.Any(ctx); err != nil {
		return "", err
	} else if has {
		raw, err := os.ReadFile(file)
		if err != nil {
			return "(the one you chose)", nil
		}
		return strings.TrimSpace(string(raw)), nil
	}
	raw := make([]byte, 10)
	rand.Read(raw)
	password = strings.ToLower(base32.StdEncoding.EncodeToString(raw))
	hash := server.HashPassword(password)
	by, err := s.Store.People.CreateFirst(ctx, demoPerson, hash)
	if err != nil {
		return "", err
	}
	if err := os.WriteFile(file, []byte(password+"\n"), 0o600); err != nil {
		return "", err
	}
	desk := jobs.Desk{Store: s.Store, Queue: s.Queue}
	if err := errors.Join(demo.Begin(ctx, desk, by, network), os.WriteFile(unfinished(p), nil, 0o600)); err != nil {
		return "", fmt.Errorf("preparing the demo: %w", err)
	}
	if err := demo.Invite(ctx, desk, by, hash); err != nil {
		return "", fmt.Errorf("preparing the demo: %w", err)
	}
	return password, nil
}
