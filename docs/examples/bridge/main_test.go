package main

import (
	"context"
	"net/http/httptest"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/ground/address"
	"unlatch/core/ground/signin"
	"unlatch/core/wire/bridge"
)

// The example that people begin from keeps the contract, and is as short as the page says.
func TestTheExampleKeepsTheContract(t *testing.T) {
	server := httptest.NewServer(New("oak-door-52"))
	defer server.Close()
	client := func(secret string) *bridge.Client {
		o := bridge.Options{Dial: &address.Guard{Allowed: address.MustParse("127.0.0.1")}, Leave: signin.Policy{Agreed: signin.InClear}.Leave}
		if secret != "" {
			o.SignIn = signin.SignIn{User: "bridge", Secret: signin.NewSecret(secret)}
		}
		c, err := bridge.New(server.URL, o)
		require.NoError(t, err)
		return c
	}
	checked := 0
	for _, r := range (&bridge.Checker{Client: client("oak-door-52"), Stranger: client("")}).Check(context.Background()) {
		assert.True(t, r.OK(), "%s: %s", r.What, r.Problem)
		checked++
	}
	assert.Greater(t, checked, 9)
	raw, err := os.ReadFile("main.go")
	require.NoError(t, err)
	assert.Less(t, strings.Count(string(raw), "\n"), 150)
}
