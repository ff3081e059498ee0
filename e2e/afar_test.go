package e2e

import (
	"crypto/sha256"
	"crypto/tls"
	"encoding/hex"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/e2e/browser"
	"unlatch/sim/netns"
	"unlatch/sim/selfsigned"
)

// leadTLS takes TLS connections at one address with a certificate of its own and leads them on to another, as a proxy before a server does,
// each way so much later. It returns the certificate's SHA-256.
func leadTLS(t *testing.T, from, to string, later time.Duration) (fingerprint string) {
	t.Helper()
	shown, err := selfsigned.Certificate("proxy", time.Now().Add(time.Hour))
	require.NoError(t, err)
	l, err := tls.Listen("tcp4", from, &tls.Config{Certificates: []tls.Certificate{shown}})
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				inside, err := net.Dial("tcp4", to)
				if err != nil {
					return
				}
				defer inside.Close()
				each := func() time.Duration { return later }
				go netns.CopyLater(inside, c, each)
				netns.CopyLater(c, inside, each)
			}()
		}
	}()
	sum := sha256.Sum256(shown.Certificate[0])
	return hex.EncodeToString(sum[:])
}

// begin starts a program in a network namespace, which ends with the test, and returns its process.
func begin(t *testing.T, pid string, args ...string) *exec.Cmd {
	t.Helper()
	c := exec.Command("nsenter", append([]string{"-t", pid, "-n"}, args...)...)
	c.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	c.Stderr = os.Stderr
	require.NoError(t, c.Start())
	t.Cleanup(func() { c.Process.Kill(); c.Wait() })
	return c
}

// A site behind another network: its worker has a route to the server's port and to nothing else, 80 ms away, and the server none to the
// cameras. It finds them and opens them by its one connection; the line is cut in the middle, and the run goes on when it is back.
func TestASiteBehindAnotherNetwork(t *testing.T) {
	if !netns.Inside() {
		out, err := netns.Again("-test.run=^TestASiteBehindAnotherNetwork$", "-test.v", "-test.timeout=4m")
		require.NoError(t, err, "%s", out)
		require.Contains(t, string(out), "--- PASS: TestASiteBehindAnotherNetwork")
		return
	}
	run(t, "ip", "link", "set", "lo", "up")
	pid := elsewhere(t)
	root, err := browser.Root()
	require.NoError(t, err)
	binary, data := filepath.Join(root, ".unlatch", "bin", "unlatch"), dataFolder(t)
	scenario := filepath.Join(data, "site.yaml")
	var cameras strings.Builder
	for i := range 4 {
		fmt.Fprintf(&cameras, "  - {name: Arch %d, maker: corvane, model: V4, address: 127.43.81.%d, scene: viaduct, streams: [*s]}\n", i, 12+i)
	}
	require.NoError(t, os.WriteFile(scenario, []byte(`name: viaduct
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: Pier, maker: corvane, model: V4, address: 127.43.81.11, scene: viaduct, streams: [&s {width: 320, height: 180, fps: 5, kbps: 100,
       gop: 5, profile: baseline}]}
`+cameras.String()), 0o644))
	begin(t, pid, binary, "sim", "--data", filepath.Join(data, "sim"), "--scenario", scenario)
	b := start(t)
	b.firstAccount()
	b.makeSite("Viaduct", "127.43.81.0/27")
	b.firstSignIn()
	fingerprint := leadTLS(t, "198.51.100.1:8443", strings.TrimSuffix(strings.TrimPrefix(b.server.URL, "http://"), "/"), 40*time.Millisecond)

	code, paired := pairs(t, exec.Command("nsenter", "-t", pid, "-n", binary, "worker", "pair", "https://198.51.100.1:8443",
		"--server-fingerprint", fingerprint, "--data", data))
	b.page.MustNavigate(b.server.URL + "server")
	b.press("^Pair a worker$")
	b.typeIn("code", code)
	b.typeIn("name", "Viaduct cabinet")
	b.page.MustElement(`[role=dialog] [aria-label="Viaduct"]`).MustClick()
	b.page.MustElement(`[role=dialog] [aria-label="May open sign-ins that are for every site"]`).MustClick()
	b.page.MustElementR("[role=dialog] button", "^Pair it$").MustClick()
	assert.Contains(t, paired(), "Paired, as Viaduct cabinet")
	worker := begin(t, pid, binary, "worker", "--data", data)
	b.page.MustElement(`[data-paired="Viaduct cabinet"][data-state=connected]`)
	b.page.MustElementR(`[data-paired="Viaduct cabinet"]`, `\b(8|9)\d ms away`)

	b.page.MustNavigate(b.server.URL)
	b.page.MustElementR("a", "Viaduct").MustClick()
	b.see("Nothing heard yet")
	b.press("^Sweep the site$")
	b.page.MustElement(`[data-run="finished"]`)
	b.press("^Line-up$")
	b.count("[data-device]", 5)
	raw, err := os.ReadFile(fmt.Sprintf("/proc/%d/net/tcp", worker.Process.Pid))
	require.NoError(t, err)
	// 198.51.100.1:8443 as the kernel writes it, and 01 for an open connection.
	assert.Len(t, regexp.MustCompile(`016433C6:20FB 01 `).FindAllString(string(raw), -1), 1, "one connection to the server:\n%s", raw)
	assert.NotRegexp(t, `026433C6:[0-9A-F]{4} 00000000:0000 0A`, string(raw), "nothing listens at the site's own address")

	b.press("^Open latches of")
	b.page.MustElement(`[data-run="running"]`)
	run(t, "ip", "link", "set", "street0", "down")
	time.Sleep(3 * time.Second)
	run(t, "ip", "link", "set", "street0", "up")
	b.count(`[data-at="placed"]`, 5)
	b.page.MustElement(`[data-run="finished"]`)
}
