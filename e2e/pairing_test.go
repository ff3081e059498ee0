package e2e

import (
	"bufio"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/e2e/browser"
	"unlatch/store/backup"
)

// A machine at a site shows a code, is paired on the page, works over its one connection, and ends when it is revoked there.
func TestAWorkerIsPaired(t *testing.T) {
	t.Parallel()
	b := start(t)
	b.firstAccount()
	b.makeSite("Viaduct", "127.43.79.0/29")
	root, err := browser.Root()
	require.NoError(t, err)
	binary, data := filepath.Join(root, ".unlatch", "bin", "unlatch"), dataFolder(t)
	pair := exec.CommandContext(t.Context(), binary, "worker", "pair", strings.TrimSuffix(b.server.URL, "/"), "--data", data)
	out, err := pair.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, pair.Start())
	lines := bufio.NewScanner(out)
	code := ""
	for code == "" && lines.Scan() {
		if found := regexp.MustCompile(`Code +(\S+)`).FindStringSubmatch(lines.Text()); found != nil {
			code = found[1]
		}
	}
	require.NotEmpty(t, code)

	b.page.MustNavigate(b.server.URL + "server")
	b.press("^Pair a worker$")
	b.typeIn("code", "AAAA-AAAA")
	b.typeIn("name", "Viaduct cabinet")
	b.page.MustElement(`[role=dialog] [aria-label="Viaduct"]`).MustClick()
	b.clean("pairing a worker")
	b.page.MustElementR("[role=dialog] button", "^Pair it$").MustClick()
	b.page.MustElementR("[role=dialog]", "No machine shows this code")
	b.typeIn("code", strings.ToLower(code))
	b.page.MustElementR("[role=dialog] button", "^Pair it$").MustClick()
	b.page.MustElement(`[data-paired="Viaduct cabinet"][data-state=away]`)
	b.clean("a worker that is paired")
	said := ""
	for lines.Scan() {
		said += lines.Text() + "\n"
	}
	require.NoError(t, pair.Wait())
	assert.Contains(t, said, "Paired, as Viaduct cabinet")

	// The keyring's key is copied by hand.
	key, err := os.ReadFile(filepath.Join(b.data, backup.KeyFile))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(data, backup.KeyFile), key, 0o600))
	worker := exec.CommandContext(t.Context(), binary, "worker", "--data", data)
	words := &strings.Builder{}
	worker.Stderr = words
	require.NoError(t, worker.Start())
	b.page.MustElement(`[data-paired="Viaduct cabinet"][data-state=connected]`)
	b.clean("a worker that is connected")
	b.page.MustElement(`[data-paired="Viaduct cabinet"]`).MustElementR("button", "^Revoke$").MustClick()
	b.press("^Revoke it$")
	b.page.MustElement(`[data-paired="Viaduct cabinet"][data-state=revoked]`)
	ended := make(chan error, 1)
	go func() { ended <- worker.Wait() }()
	select {
	case err := <-ended:
		assert.Error(t, err)
		assert.Contains(t, words.String(), "revoked")
	case <-time.After(patience):
		worker.Process.Kill()
		t.Fatal("a revoked worker goes on")
	}
}
