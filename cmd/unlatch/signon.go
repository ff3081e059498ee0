package main

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"unlatch/core/decide/act"
	"unlatch/server"
	"unlatch/signon"
)

// signOnFlags say which provider of single sign-on there is; without an issuer there is none.
type signOnFlags struct {
	signon.Config
	roles []string // VALUE=ROLE
}

func (f *signOnFlags) flags(c *cobra.Command) {
	c.Flags().StringVar(&f.Issuer, "oidc-issuer", "",
		"address of a provider of single sign-on by OpenID Connect, as it calls itself; its secret for this server stands in UNLATCH_OIDC_SECRET")
	c.Flags().StringVar(&f.Client, "oidc-client", "unlatch", "client ID that the provider knows this server by")
	c.Flags().StringVar(&f.Name, "oidc-name", "", "what people call the provider; else the name of its host")
	c.Flags().StringVar(&f.RoleClaim, "oidc-role-claim", "",
		"claim by whose values the provider gives roles, such as groups; without it people are invited here")
	c.Flags().StringArrayVar(&f.roles, "oidc-role", nil,
		"role that a value of that claim gives, as VALUE=ROLE, such as site-technicians=technician; may be given again")
}

// provider returns the provider that the flags describe, and that has given this server a secret; nil for none.
func (f *signOnFlags) provider(secret string) (server.SignOn, error) {
	if f.Issuer == "" {
		return nil, nil
	}
	cfg := f.Config
	if cfg.Secret == "" {
		cfg.Secret = secret
	}
	for _, r := range f.roles {
		i := strings.LastIndexByte(r, '=')
		if i < 1 || !act.Role(r[i+1:]).Valid() {
			return nil, usageError{fmt.Errorf("--oidc-role takes a value and a role, such as site-technicians=technician, not %q", r)}
		}
		if cfg.Roles == nil {
			cfg.Roles = map[string]act.Role{}
		}
		cfg.Roles[r[:i]] = act.Role(r[i+1:])
	}
	p, err := signon.New(cfg)
	if err != nil {
		return nil, usageError{fmt.Errorf("single sign-on: %w", err)}
	}
	return p, nil
}
