package main

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/sim/simtest"
)

func TestBridgeCommand(t *testing.T) {
	simtest.Start(t, `
name: bridges
targets:
  - {name: Good, kind: software, address: 127.44.1.61, port: 8081, user: desk, secret: oak-door-52, slots: 4}
  - {name: Liar, kind: software, address: 127.44.1.62, port: 8081, user: desk, secret: oak-door-52, slots: 4, broken: lies}
`)
	check := []string{"bridge", "check", "http://127.44.1.61:8081", "--user", "desk", "--password-stdin"}
	code, out, complaint := unlatch("oak-door-52\n", check...)
	assert.Equal(t, 0, code, complaint)
	assert.Contains(t, out, "The bridge keeps the contract.")
	assert.NotContains(t, out, "✕")
	check[2] = "http://127.44.1.62:8081"
	code, out, complaint = unlatch("oak-door-52\n", check...)
	assert.Equal(t, 1, code)
	assert.Contains(t, out, "does not hold the camera")
	assert.Contains(t, complaint, "breaks the contract")
	code, out, _ = unlatch("wrong\n", check...)
	assert.Equal(t, 1, code)
	assert.Contains(t, out, "refuses the sign-in")
	for _, bad := range []string{"desk.example", "http://desk.example:8081", "http://127.44.1.61:8081/?x=1"} {
		code, _, _ := unlatch("", "bridge", "check", bad)
		assert.Equal(t, exitUsage, code, bad)
	}
	code, _, _ = unlatch("", "bridge", "check")
	assert.Equal(t, exitUsage, code)
}

// The contract's document is the one that the code prints.
func TestBridgeDocumentIsCurrent(t *testing.T) {
	_, out, _ := unlatch("", "bridge", "document")
	kept, err := os.ReadFile(filepath.Join("..", "..", "docs", "bridge.openapi.json"))
	require.NoError(t, err)
	assert.Equal(t, string(kept), out, "print it anew: unlatch bridge document >docs/bridge.openapi.json")
}
