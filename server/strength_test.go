package server

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/ground/signin"
	"unlatch/store/storetest"
)

func TestWeakPasswordsAreAFinding(t *testing.T) {
	t.Parallel()
	for secret, weak := range map[string]bool{
		"": true, "short": true, "12345678901234": true, "aaaaaaaaaaaaaaaa": true, "lantern": true, "Fitter-2026-lamp": true,
		"correct horse": true, "kf3xq-7vbn2-mmwz9-a4c6e": false, strings.Repeat("kf3xq-7vbn2 ", 40): false,
	} {
		got := weakness(signin.SignIn{User: "fitter", Secret: signin.NewSecret(secret)})
		assert.Equal(t, weak, got != "", "%q: %s", secret, got)
		if secret != "" {
			assert.NotContains(t, got, secret, "the reason does not repeat it")
		}
	}
}

func TestPasswordsAreJudgedByTheServer(t *testing.T) {
	t.Parallel()
	p, _, log := serve(t, storetest.URL(t))
	p.setUp()
	for secret, level := range map[string]int{"": 0, "Sh0rt!": 1, "aaaaaaaaaaaaaaaaaaaa": 1, "1234567890123": 1,
		"k3mzq-8rtwx-p2vya-n5hce": 4} {
		status, raw, _ := p.do("POST", "/api/password-strength", map[string]string{"user": "fitter", "secret": secret})
		require.Equal(t, 200, status, raw)
		var v strengthView
		require.NoError(t, json.Unmarshal([]byte(raw), &v))
		assert.Equal(t, level, v.Level, "%q: %s", secret, v.Says)
		if secret != "" {
			assert.NotContains(t, raw, secret)
			assert.NotContains(t, log.String(), secret)
		}
	}
}
