package demo

import (
	"cmp"
	"net"

	"unlatch/core/decide/act"
	"unlatch/sim/provider"
)

// The railway's single sign-on: what people call it, the claim in which it tells roles, and the roles that the claim's values give.
const (
	ProviderName  = "Tarnside accounts"
	ProviderClaim = provider.RoleClaim
)

// ProviderRoles are written as the server's flag --oidc-role takes them.
var ProviderRoles = []string{"railway-engineers=" + string(act.Engineer), "railway-visitors=" + string(act.Viewer)}

// SignOnPerson has an account at the railway's single sign-on, and none in Unlatch before the first time.
const SignOnPerson = "ada"

// StartProvider runs the railway's single sign-on in the network of the stand-ins, for a server that listens at an address of this machine.
// Everybody has the demo's password there.
func StartProvider(network, listens, secret, password string) (*provider.Provider, error) {
	_, port, err := net.SplitHostPort(listens)
	if err != nil {
		return nil, err
	}
	unlatch := provider.Client{ID: "unlatch", Secret: secret}
	for _, scheme := range []string{"http", "https"} {
		for _, at := range []string{listens, net.JoinHostPort("localhost", port)} {
			unlatch.Redirects = append(unlatch.Redirects, scheme+"://"+at+"/sign-on")
		}
	}
	return provider.Start(cmp.Or(network, Network)+".0.8:8480", []provider.Client{unlatch},
		provider.Person{Subject: "tarnside-7001", Name: SignOnPerson, Password: password, Roles: []string{"railway-engineers"}},
		provider.Person{Subject: "tarnside-7002", Name: "ned", Password: password, Roles: []string{"railway-kitchen"}})
}
