package main

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"filippo.io/age"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/store"
	"unlatch/store/storetest"
)

// kept makes a server's data folder and database, and files with a key of age: to seal to, and to open with.
func kept(t *testing.T) (machine []string, data, recipients, identity string) {
	t.Helper()
	url, data := storetest.URL(t), t.TempDir()
	s, err := store.Open(context.Background(), url, filepath.Join(data, "key"), nil)
	require.NoError(t, err)
	_, err = s.People.CreateFirst(context.Background(), "Edda", "no password")
	require.NoError(t, err)
	s.Close()
	key, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	dir := t.TempDir()
	recipients, identity = filepath.Join(dir, "recipients"), filepath.Join(dir, "identity")
	require.NoError(t, os.WriteFile(recipients, []byte("# the firm's safe\n"+key.Recipient().String()+"\n"), 0o600))
	require.NoError(t, os.WriteFile(identity, []byte("# made today\n"+key.String()+"\n"), 0o600))
	return []string{"--database", url, "--data", data}, data, recipients, identity
}

func TestABackupIsWrittenVerifiedAndRestored(t *testing.T) {
	machine, data, recipients, identity := kept(t)
	config := written(t, "name-server: 192.0.2.53:53\n")
	into := t.TempDir()
	code, out, complaint := unlatch("", append([]string{"backup", "--to", into, "--recipients", recipients, "--config", config},
		machine...)...)
	require.Equal(t, 0, code, complaint)
	found, err := filepath.Glob(filepath.Join(into, "*"))
	require.NoError(t, err)
	require.Len(t, found, 1, "nothing half-written is left")
	file := found[0]
	assert.Contains(t, out, file+" is written and in order: ")
	assert.Contains(t, out, "with the key file")
	info, err := os.Stat(file)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())

	code, out, complaint = unlatch("", "backup", "verify", file, "--identity", identity)
	require.Equal(t, 0, code, complaint)
	assert.Contains(t, out, "is in order")
	code, _, complaint = unlatch("", "backup", "verify", file)
	require.Equal(t, 0, code, complaint)

	// Onto another machine: an empty folder and an empty database.
	empty, url := filepath.Join(t.TempDir(), "data"), storetest.EmptyURL(t)
	code, out, complaint = unlatch("", "restore", file, "--identity", identity, "--data", empty, "--database", url)
	require.Equal(t, 0, code, complaint)
	assert.Contains(t, out, "is restored")
	for name, want := range map[string]string{"key": filepath.Join(data, "key"), "unlatch.yaml": config} {
		was, err := os.ReadFile(want)
		require.NoError(t, err)
		is, err := os.ReadFile(filepath.Join(empty, name))
		require.NoError(t, err)
		assert.Equal(t, was, is, name)
	}
	s, err := store.Open(context.Background(), url, filepath.Join(empty, "key"), nil)
	require.NoError(t, err, "the key opens the database")
	defer s.Close()
	any, err := s.People.Any(context.Background())
	require.NoError(t, err)
	assert.True(t, any)

	code, _, complaint = unlatch("", "restore", file, "--identity", identity, "--data", empty, "--database", url)
	assert.Equal(t, 1, code)
	assert.Contains(t, complaint, "the database is in use")
	code, _, complaint = unlatch("", "restore", file, "--identity", identity, "--data", data, "--database", storetest.EmptyURL(t))
	require.Equal(t, 0, code, complaint+": the same files are there already, as after a cut")
}

func TestABackupThatCannotBeRestoredChangesNothing(t *testing.T) {
	machine, _, recipients, identity := kept(t)
	file := filepath.Join(t.TempDir(), "backup.zip")
	code, _, complaint := unlatch("", append([]string{"backup", "--to", file, "--recipients", recipients}, machine...)...)
	require.Equal(t, 0, code, complaint)
	raw, err := os.ReadFile(file)
	require.NoError(t, err)
	cut := filepath.Join(t.TempDir(), "cut.zip")
	require.NoError(t, os.WriteFile(cut, raw[:len(raw)-100], 0o600))
	changed := filepath.Join(t.TempDir(), "changed.zip")
	raw[len(raw)/2] ^= 1
	require.NoError(t, os.WriteFile(changed, raw, 0o600))
	pass := written(t, "not the passphrase")
	for _, c := range []struct {
		file, how, with, says string
	}{
		{cut, "--identity", identity, "it is cut short, or no backup"},
		{changed, "--identity", identity, "is not as it was written"},
		{file, "--passphrase-file", pass, "that passphrase or key does not open what was sealed"},
	} {
		empty := filepath.Join(t.TempDir(), "data")
		url := storetest.URL(t)
		code, _, complaint := unlatch("", "restore", c.file, c.how, c.with, "--data", empty, "--database", url)
		assert.Equal(t, 1, code, c.says)
		assert.Contains(t, complaint, c.says)
		assert.NoDirExists(t, empty)
	}
	other := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(other, "key"), []byte("another server's"), 0o600))
	code, _, complaint = unlatch("", "restore", file, "--identity", identity, "--data", other, "--database", storetest.EmptyURL(t))
	assert.Equal(t, 1, code)
	assert.Contains(t, complaint, "the data folder is in use")
}

func TestWrongUseOfBackups(t *testing.T) {
	machine, _, recipients, identity := kept(t)
	for _, c := range []struct {
		args string
		code int
		says string
	}{
		{"backup --without-key", 2, "say where to"},
		{"backup --to x", 2, "say who may open the key file"},
		{"backup --to x --recipients " + recipients + " --without-key", 2, "give one of"},
		{"backup --to x --recipients " + identity, 1, "this is a secret key"},
		{"backup --to " + recipients + " --without-key", 1, "is there already"},
		{"backup --to /nowhere/x --without-key", 1, "no such file or directory"},
		{"backup verify", 2, "name one backup"},
		{"restore x", 2, "say how to open the key file"},
		{"restore " + recipients + " --without-key", 1, "it is cut short, or no backup"},
	} {
		args := strings.Fields(c.args)
		if args[1] != "verify" {
			args = append(args, machine...)
		}
		code, _, complaint := unlatch("", args...)
		assert.Equal(t, c.code, code, c.args)
		assert.Contains(t, complaint, c.says, c.args)
	}
	assert.NoFileExists(t, "x")
	assert.NoFileExists(t, "x.part")
}
