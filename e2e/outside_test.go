package e2e

import (
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/e2e/browser"
	"unlatch/sim/netns"
	"unlatch/sim/simtest"
	"unlatch/store/cluster"
)

// lead takes connections at one address and leads them on to another, as a router's port does.
func lead(t *testing.T, from, to string) {
	l, err := net.Listen("tcp4", from)
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
				go io.Copy(inside, c)
				io.Copy(c, inside)
			}()
		}
	}()
}

// run runs a program and fails the test where it fails.
func run(t *testing.T, name string, args ...string) {
	t.Helper()
	out, err := exec.Command(name, args...).CombinedOutput()
	require.NoError(t, err, "%s %v: %s", name, args, out)
}

// elsewhere makes a network beside this one, with a wire between them, and returns the process that holds it.
func elsewhere(t *testing.T) string {
	hold := exec.Command("sleep", "600")
	hold.SysProcAttr = &syscall.SysProcAttr{Cloneflags: syscall.CLONE_NEWNET, Pdeathsig: syscall.SIGKILL}
	require.NoError(t, hold.Start())
	t.Cleanup(func() { hold.Process.Kill(); hold.Wait() })
	pid := fmt.Sprint(hold.Process.Pid)
	run(t, "ip", "link", "add", "street0", "type", "veth", "peer", "name", "street1")
	run(t, "ip", "link", "set", "street1", "netns", pid)
	run(t, "ip", "addr", "add", "198.51.100.1/24", "dev", "street0")
	run(t, "ip", "link", "set", "street0", "up")
	run(t, "nsenter", "-t", pid, "-n", "ip", "addr", "add", "198.51.100.2/24", "dev", "street1")
	run(t, "nsenter", "-t", pid, "-n", "ip", "link", "set", "street1", "up")
	run(t, "nsenter", "-t", pid, "-n", "ip", "link", "set", "lo", "up")
	return pid
}

// A site's outside ports are planned and kept, written into the URLs of a list for somewhere else, and proven by a worker that reaches the
// outside and not the inside; one that reaches both proves nothing. The sheet for the router is saved.
func TestSeenFromOutside(t *testing.T) {
	if !netns.Inside() {
		out, err := netns.Again("-test.run=^TestSeenFromOutside$", "-test.v", "-test.timeout=2m")
		require.NoError(t, err, "%s", out)
		require.Contains(t, string(out), "--- PASS: TestSeenFromOutside")
		return
	}
	run(t, "ip", "link", "set", "lo", "up")
	simtest.Start(t, `
name: outside
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: Clock, maker: corvane, model: V4, address: 127.43.65.11, scene: platform-clock, streams: [&m {width: 320, height: 180, fps: 10,
       kbps: 200, gop: 10}]}
  - {name: Gate, maker: corvane, model: V4, address: 127.43.65.12, scene: viaduct, setup: {signing: basic}, streams: [*m]}
`)
	pid := elsewhere(t)
	b := start(t)
	b.bring("Street", "127.43.65.0/27", 2)
	b.count(`[data-at="placed"]`, 1)

	b.press("^Outside$")
	b.page.MustElement(`input[name=addresses]`).MustInput("127.43.65.1")
	b.press("^Plan the ports$")
	b.see("is inside: it is one of the site")
	b.typeIn("addresses", "198.51.100.1")
	b.press("^Plan the ports$")
	b.page.MustElementR(`[data-port="20000"]`, `198\.51\.100\.1:20000/vista/ch1/primary`)
	b.page.MustElementR(`[aria-label="Not led outside"]`, "not proven yet")
	b.page.MustElementR(`[aria-label="Never outside"]`, `127\.43\.65\.11:\d+, the device service of`)
	b.press("^Keep it$")
	b.page.MustElement(`a[href$="/outside/file"]`)
	b.clean("from outside")

	// A machine that reaches the inside as well is not elsewhere.
	root, err := browser.Root()
	require.NoError(t, err)
	binary := filepath.Join(root, ".unlatch", "bin", "unlatch")
	database, ok := cluster.Running(filepath.Join(b.data, "pg"))
	require.True(t, ok)
	worker := func(database string, before ...string) (stop func()) {
		args := append(before, binary, "worker", "--outside", "--data", b.data, "--database", database)
		c := exec.Command(args[0], args[1:]...)
		c.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
		c.Stderr = os.Stderr
		require.NoError(t, c.Start())
		return func() { c.Process.Kill(); c.Wait() }
	}
	stop := worker(database)
	b.press("^Prove from elsewhere$")
	b.see("directly: what it sees proves nothing")
	stop()

	// From elsewhere, before the router leads the port on, and then after it does.
	port := database[strings.LastIndex(database, ":")+1 : strings.LastIndex(database, "/")]
	lead(t, "198.51.100.1:15432", "127.0.0.1:"+port)
	stop = worker(strings.Replace(database, "127.0.0.1:"+port, "198.51.100.1:15432", 1), "nsenter", "-t", pid, "-n")
	defer stop()
	b.press("^Prove from elsewhere$")
	b.page.MustElementR(`[data-port="20000"] .text-stuck`, `198\.51\.100\.1`)
	lead(t, "198.51.100.1:20000", "127.43.65.11:554")
	b.press("^Prove from elsewhere$")
	b.page.MustElementR(`[data-port="20000"]`, "seen from elsewhere")

	sheet := b.page.MustEval(`async () => (await fetch(document.querySelector('a[href$="/outside/file"]').href)).text()`).Str()
	assert.Regexp(t, `20000 +TCP +127\.43\.65\.11:554 +Corvane V4`, sheet)
	assert.Contains(t, sheet, "Never lead these outside")
	assert.NotContains(t, sheet, "brass-lamp-41")

	// A list for phones somewhere else has the outside address, and nothing of the camera that is not led outside.
	list := b.page.MustEval(`async () => {
		const site = location.pathname.split("/")[2];
		const send = async (path, method, body) => (await fetch("/api/sites/" + site + path, { method,
			headers: { "Content-Type": "application/json" }, body: body && JSON.stringify(body) })).json();
		const t = await send("/targets", "POST", { kind: "template", name: "Phones", settings: { elsewhere: "yes",
			text: "{{range .Cameras}}{{range .Streams}}{{.URL}} {{end}}{{end}}" } });
		const devices = await send("/devices", "GET");
		await send("/place", "POST", { placements: devices.map((d) => ({ device: d.id, target: t.id })) });
		for (let n = 0; n < 100; n++) {
			const text = await (await fetch("/api/sites/" + site + "/targets/" + t.id + "/file")).text();
			if (text.includes("rtsp")) return text;
			await new Promise((r) => setTimeout(r, 100));
		}
		return "";
	}`).Str()
	assert.Contains(t, list, "rtsp://198.51.100.1:20000/vista/ch1/primary")
	assert.NotContains(t, list, "127.43.65.")
}
