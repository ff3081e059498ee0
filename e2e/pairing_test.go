package e2e

import (
	"bufio"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/e2e/browser"
	"unlatch/sim/simtest"
)

// pairs starts a machine's pairing and returns the code that it shows, and what waits for its end and returns what it says then.
func pairs(t *testing.T, pair *exec.Cmd) (code string, paired func() string) {
	t.Helper()
	out, err := pair.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, pair.Start())
	lines := bufio.NewScanner(out)
	for code == "" && lines.Scan() {
		if found := regexp.MustCompile(`Code +(\S+)`).FindStringSubmatch(lines.Text()); found != nil {
			code = found[1]
		}
	}
	require.NotEmpty(t, code)
	return code, func() string {
		t.Helper()
		said := ""
		for lines.Scan() {
			said += lines.Text() + "\n"
		}
		require.NoError(t, pair.Wait())
		return said
	}
}

// A machine at a site shows a code, is paired on the page, works over its one connection, and ends when it is revoked there.
func TestAWorkerIsPaired(t *testing.T) {
	t.Parallel()
	simtest.Start(t, `
name: viaduct
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: Arch, maker: corvane, model: V4, address: 127.43.79.3, scene: viaduct, streams: [{width: 320, height: 180, fps: 5,
  	kbps: 100, gop: 5,
       profile: baseline}]}
`)
	b := start(t)
	b.firstAccount()
	b.makeSite("Viaduct", "127.43.79.0/29")
	b.firstSignIn()
	root, err := browser.Root()
	require.NoError(t, err)
	binary, data := filepath.Join(root, ".unlatch", "bin", "unlatch"), dataFolder(t)
	code, paired := pairs(t, exec.CommandContext(t.Context(), binary, "worker", "pair", strings.TrimSuffix(b.server.URL, "/"), "--data", data))

	b.page.MustNavigate(b.server.URL + "server")
	b.press("^Pair a worker$")
	b.typeIn("code", "AAAA-AAAA")
	b.typeIn("name", "Viaduct cabinet")
	b.page.MustElement(`[role=dialog] [aria-label="Viaduct"]`).MustClick()
	b.page.MustElement(`[role=dialog] [aria-label="May open sign-ins that are for every site"]`).MustClick()
	b.clean("pairing a worker")
	b.page.MustElementR("[role=dialog] button", "^Pair it$").MustClick()
	b.page.MustElementR("[role=dialog]", "No machine shows this code")
	b.typeIn("code", strings.ToLower(code))
	b.page.MustElementR("[role=dialog] button", "^Pair it$").MustClick()
	b.page.MustElement(`[data-paired="Viaduct cabinet"][data-state=away]`)
	b.clean("a worker that is paired")
	assert.Contains(t, paired(), "Paired, as Viaduct cabinet")

	// No key of the keyring is there, and no address of the database.
	worker := exec.CommandContext(t.Context(), binary, "worker", "--data", data)
	words := &strings.Builder{}
	worker.Stderr = words
	require.NoError(t, worker.Start())
	b.page.MustElement(`[data-paired="Viaduct cabinet"][data-state=connected]`)
	b.clean("a worker that is connected")
	b.page.MustNavigate(b.server.URL)
	b.page.MustElementR("a", "Viaduct").MustClick()
	b.see("Nothing heard yet")
	b.press("^Sweep the site$")
	b.page.MustElement(`[data-run="finished"]`)
	b.press("^Line-up$")
	b.count("[data-device]", 1)
	b.press("^Open latches of")
	b.count(`[data-at="placed"]`, 1)
	b.page.MustNavigate(b.server.URL + "server")
	b.page.MustElement(`[data-paired="Viaduct cabinet"]`).MustElementR("button", "^Revoke$").MustClick()
	b.press("^Revoke it$")
	b.page.MustElement(`[data-paired="Viaduct cabinet"][data-state=revoked]`)
	b.page.MustElementR(`[data-paired="Viaduct cabinet"]`, "It could read a sign-in")
	b.clean("what a worker could read")
	b.page.MustElement(`[data-paired="Viaduct cabinet"]`).MustElementR("button", "^Another key$").MustClick()
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
