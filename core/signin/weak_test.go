package signin

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestWeakPasswordsAreAFinding(t *testing.T) {
	for secret, weak := range map[string]bool{
		"": true, "short": true, "12345678901234": true, "aaaaaaaaaaaaaaaa": true, "lantern": true, "Fitter-2026-lamp": true,
		"Brass-Lamp-41": false, "kf3xq-7vbn2-mmwz9-a4c6e": false, "correct horse battery": false,
	} {
		got := Weakness(SignIn{User: "fitter", Secret: NewSecret(secret)})
		assert.Equal(t, weak, got != "", "%q: %.0f bits, %s", secret, Bits(secret), got)
		if secret != "" {
			assert.NotContains(t, got, secret, "the reason does not repeat it")
		}
	}
}
