package server

import (
	"context"
	"fmt"
	"strings"

	zxcvbn "github.com/ccojocar/zxcvbn-go"
	"github.com/danielgtaylor/huma/v2"

	"unlatch/core/decide/act"
	"unlatch/core/ground/signin"
)

const (
	// strongBits is the number of bits from which on a password is out of reach of somebody who guesses at a hash of it: a graphics card
	// tries some 2^35 MD5 hashes a second, which makes 2^55 of them two weeks.
	strongBits = 55
	// mostJudged bounds what the estimator looks at: it takes longer than in proportion, and more is not weaker.
	mostJudged = 100
)

// strengthView says how hard a password is to guess.
type strengthView struct {
	Level int    `json:"level" minimum:"0" maximum:"4" doc:"0 for none, 1 for weak, up to 4"`
	Says  string `json:"says"`
}

// bits estimates how many tries a password withstands, as a power of two. What is known with it makes it weaker.
func bits(in signin.SignIn) float64 {
	secret := in.Secret.Reveal()
	return zxcvbn.PasswordStrength(secret[:min(len(secret), mostJudged)], []string{in.User}).Entropy
}

// strengthOf judges a password that a person is about to give a device.
func strengthOf(in signin.SignIn) strengthView {
	n := len([]rune(in.Secret.Reveal()))
	switch b := bits(in); {
	case n == 0:
		return strengthView{0, "Type one, or let Unlatch make one."}
	case n < act.ShortestPassword:
		return strengthView{1, fmt.Sprintf("Too short: %d of at least %d characters.", n, act.ShortestPassword)}
	case b < 40:
		return strengthView{1, "Weak: easy to guess."}
	case b < strongBits:
		return strengthView{2, "Fair: better with more characters."}
	case b < 75:
		return strengthView{3, "Good."}
	}
	return strengthView{4, "Very good."}
}

// weakness says why the password of a sign-in is a finding, or "" where it is none. Digest and token hide a password only from those who do
// not guess at it: whoever answers once, a stranger included, takes a hash away and tries words on it for as long as they like.
func weakness(in signin.SignIn) string {
	secret := in.Secret.Reveal()
	switch b := bits(in); {
	case secret == "":
		return "it has no password at all"
	case in.User != "" && strings.Contains(strings.ToLower(secret), strings.ToLower(in.User)):
		return "the password holds the user name; whoever answers at a device's address once can guess it from the digest"
	case b < strongBits:
		return fmt.Sprintf("the password can be guessed (about %.0f bits; %d are good): whoever answers at a device's address once takes a "+
			"digest away and tries words on it", b, strongBits)
	}
	return ""
}

// strengths serve how hard passwords are to guess.
type strengths struct{ resource }

func (s strengths) routes(api huma.API) {
	register(s, api, huma.Operation{OperationID: "judge-password", Metadata: readsWith(act.Look), Method: "POST",
		Path:    "/api/password-strength",
		Summary: "How hard a password is to guess; it is kept nowhere"},
		func(_ context.Context, in *struct {
			Body struct {
				User   string `json:"user,omitempty" maxLength:"200"`
				Secret string `json:"secret" maxLength:"400"`
			}
		}) (*struct{ Body strengthView }, error) {
			return &struct{ Body strengthView }{strengthOf(signin.SignIn{User: in.Body.User, Secret: signin.NewSecret(in.Body.Secret)})}, nil
		})
}
