package e2e

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/e2e/browser"
)

// A worker at a site takes a newer program that is signed by whom its machine trusts, when it is told to, in the process that it is; one
// that never comes to work is given up for the one that is installed; one that a stranger has signed is not taken.
func TestAWorkerIsUpdated(t *testing.T) {
	t.Parallel()
	b := start(t)
	b.firstAccount()
	b.makeSite("Viaduct", "127.43.83.0/29")
	root, err := browser.Root()
	require.NoError(t, err)
	binary, data := filepath.Join(root, ".unlatch", "bin", "unlatch"), dataFolder(t)
	say := func(args ...string) string {
		t.Helper()
		out, err := exec.CommandContext(t.Context(), binary, args...).CombinedOutput()
		require.NoError(t, err, "%s", out)
		return strings.TrimSpace(string(out))
	}
	key := filepath.Join(data, "signing.key")
	trusted := say("program", "key", key)
	say("program", "key", key+".stranger")
	offer := func(version, script, key string) {
		t.Helper()
		path := filepath.Join(data, version)
		require.NoError(t, os.WriteFile(path, []byte("#!/bin/sh\n"+script+"\n"), 0o755))
		say("program", "sign", "--key", key, "--version", version, "--platform", runtime.GOOS+"/"+runtime.GOARCH, path)
		say("program", "offer", "--data", b.data, path+".signed")
	}

	code, paired := pairs(t, exec.CommandContext(t.Context(), binary, "worker", "pair", strings.TrimSuffix(b.server.URL, "/"), "--data", data))
	b.page.MustNavigate(b.server.URL + "server")
	b.press("^Pair a worker$")
	b.typeIn("code", code)
	b.typeIn("name", "Viaduct cabinet")
	b.page.MustElement(`[role=dialog] [aria-label="Viaduct"]`).MustClick()
	b.page.MustElementR("[role=dialog] button", "^Pair it$").MustClick()
	paired()
	// Whatever ends is started again, as by the system of the machine.
	process := make(chan int, 1)
	go func() {
		for t.Context().Err() == nil {
			worker := exec.CommandContext(t.Context(), binary, "worker", "--data", data, "--update-key", trusted)
			if worker.Start() != nil {
				return
			}
			select {
			case <-process:
			default:
			}
			process <- worker.Process.Pid
			worker.Wait()
		}
	}()
	update := func(version string) {
		t.Helper()
		b.page.MustNavigate(b.server.URL + "server")
		b.page.MustElementR(`[data-paired="Viaduct cabinet"] button`, "^Update to "+version+"$").MustClick()
		b.press("^Update it$")
	}
	b.page.MustElement(`[data-paired="Viaduct cabinet"][data-state=connected]`)

	offer("9.0.0", "exit 3", key+".stranger")
	update("9.0.0")
	b.clean("a worker that is told to update")
	b.page.MustElementR(`[data-update=failed]`, "signed by another key")

	offer("9.0.1", fmt.Sprintf("echo begun >> %s/begun; exit 3", data), key)
	update("9.0.1")
	b.page.Timeout(2*time.Minute).MustElementR(`[data-update=failed]`, "started 3 times and never came to work")
	begun, err := os.ReadFile(filepath.Join(data, "begun"))
	require.NoError(t, err)
	assert.Equal(t, 3, strings.Count(string(begun), "begun"))

	offer("9.0.2", fmt.Sprintf(`echo "$UNLATCH_STARTED_AS $$" > %s/became; exec %s "$@"`, data, binary), key)
	update("9.0.2")
	b.page.Timeout(2*time.Minute).MustElementR(`[data-update=done]`, "Became 9.0.2")
	b.clean("a worker that was updated")
	became, err := os.ReadFile(filepath.Join(data, "became"))
	require.NoError(t, err)
	assert.Equal(t, fmt.Sprintf("9.0.2 %d\n", <-process), string(became), "in the process that it was")
	b.page.MustElement(`[data-paired="Viaduct cabinet"][data-state=connected]`)
	require.NoError(t, os.RemoveAll(filepath.Join(data, "program")))
}
