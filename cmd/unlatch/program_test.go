package main

import (
	"bytes"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/ground/program"
)

// command runs a command line of the program and returns what it has printed.
func command(t *testing.T, args ...string) (string, error) {
	t.Helper()
	var out bytes.Buffer
	c := root()
	c.SetOut(&out)
	c.SetErr(&out)
	c.SetArgs(args)
	err := c.ExecuteContext(t.Context())
	return out.String(), err
}

// A program is signed for what it runs on, and no key is written over another.
func TestProgramsAreSigned(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	key, text := filepath.Join(dir, "key"), filepath.Join(dir, "unlatch")
	trusted, err := command(t, "program", "key", key)
	require.NoError(t, err)
	public, err := program.ReadTrusted(trusted)
	require.NoError(t, err)
	_, err = command(t, "program", "key", key)
	require.ErrorIs(t, err, os.ErrExist)
	info, err := os.Stat(key)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())

	require.NoError(t, os.WriteFile(text, []byte("the program"), 0o755))
	_, err = command(t, "program", "sign", "--key", key, text)
	require.ErrorContains(t, err, "give --platform")
	for _, wrong := range [][]string{{"--version", "next"}, {"--platform", "arm64"}} {
		_, err = command(t, append([]string{"program", "sign", "--key", key, "--platform", "linux/arm64", text}, wrong...)...)
		require.Error(t, err)
	}
	_, err = command(t, "program", "sign", "--key", text, "--platform", "linux/arm64", text)
	require.ErrorContains(t, err, "no key for signing")
	_, err = command(t, "program", "sign", "--key", key, "--version", "0.2.0", "--platform", "linux/arm64", text)
	require.NoError(t, err)
	file, err := os.Open(text + ".signed")
	require.NoError(t, err)
	defer file.Close()
	head, rest, err := program.Split(file)
	require.NoError(t, err)
	m, err := program.Verify(head, public)
	require.NoError(t, err)
	assert.Equal(t, []string{"0.2.0", "linux/arm64"}, []string{m.Version, m.Platform()})
	var out bytes.Buffer
	require.NoError(t, m.Copy(&out, rest))
	assert.Equal(t, "the program", out.String())

	self, err := os.Executable()
	require.NoError(t, err)
	platform, err := platformOf(self)
	require.NoError(t, err)
	assert.Regexp(t, "^linux/[a-z0-9]+$", platform)
}
