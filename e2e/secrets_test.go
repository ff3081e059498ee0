package e2e

import (
	"bytes"
	"encoding/base64"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"

	"unlatch/e2e/browser"
	"unlatch/sim/hostile"
)

// gather asks for everything that a page can ask for without asking for a secret: each resource of the interface's own description,
// with the identities of what is there, and what the events say meanwhile.
const gather = `async () => {
  const out = {};
  const get = async (path) => { const r = await fetch(path); out[path] = r.status + " " + (await r.text()); return out[path].slice(4); };
  const paths = Object.entries(JSON.parse(await get("/api/openapi.json")).paths).filter(([, v]) => v.get).map(([k]) => k);
  const sites = JSON.parse(await get("/api/sites"));
  const fill = { site: sites.map((s) => s.id), device: [], record: [], book: [] };
  const events = sites.map((s) => { const e = new EventSource("/api/sites/" + s.id + "/events"); for (const k of ["device", "run",
  	"site"]) e.addEventListener(k, (m) => (out.events = (out.events ?? "") + m.data + " ")); return e; });
  for (const s of sites) for (const d of JSON.parse(await get("/api/sites/" + s.id + "/devices"))) {
    fill.device.push(d.id);
    for (const r of JSON.parse(await get("/api/devices/" + d.id + "/evidence"))) if (r.exchange) {
    	await get("/api/evidence/" + r.id + "/exchange"); await get("/api/evidence/" + r.id + "/reading"); }
  }
  for (const b of JSON.parse(await get("/api/path-books"))) if (b.id) await get("/api/path-books/" + b.id + "/file");
  for (const p of paths) {
    const names = [...p.matchAll(/\{(\w+)\}/g)].map((m) => m[1]);
    if (names.length === 0) await get(p);
    if (names.length === 1) for (const id of fill[names[0]] ?? []) await get(p.replace(/\{\w+\}/, id));
  }
  for (const path of ["/api/sites/none/devices", "/api/devices/00000000-0000-0000-0000-000000000000"]) await get(path);
  events.forEach((e) => e.close());
  return out;
}`

// commandLines are those of every process of this machine.
func commandLines(t *testing.T) string {
	var out strings.Builder
	all, err := filepath.Glob("/proc/[0-9]*/cmdline")
	require.NoError(t, err)
	for _, f := range all {
		raw, _ := os.ReadFile(f) // it may have ended since
		out.Write(append(bytes.ReplaceAll(raw, []byte{0}, []byte{' '}), '\n'))
	}
	require.Contains(t, out.String(), "postgres")
	return out.String()
}

// dump is everything that the database of a data folder holds, as text.
func dump(t *testing.T, data string) string {
	secret, err := os.ReadFile(filepath.Join(data, "pg.secret"))
	require.NoError(t, err)
	raw, err := os.ReadFile(filepath.Join(data, "pg", "postmaster.pid"))
	require.NoError(t, err)
	port := strings.Split(string(raw), "\n")[3]
	programs, err := filepath.Glob("/usr/lib/postgresql/*/bin/pg_dump")
	require.NoError(t, err)
	require.NotEmpty(t, programs)
	c := exec.Command(programs[len(programs)-1], "-h", "127.0.0.1", "-p", port, "-U", "unlatch", "unlatch")
	c.Env = append(os.Environ(), "PGPASSWORD="+strings.TrimSpace(string(secret)))
	out, err := c.Output()
	require.NoError(t, err)
	require.Contains(t, string(out), "COPY public.evidence")
	return string(out)
}

// cleanFiles looks through every file of a data folder, the database's own among them.
func cleanFiles(t *testing.T, data string, clean func(where, text string)) {
	files := 0
	require.NoError(t, filepath.WalkDir(data, func(path string, e fs.DirEntry, err error) error {
		if err == nil && e.IsDir() && e.Name() == "sim" {
			return filepath.SkipDir // what a stand-in remembers is the recorder's own: it was given the URL with its sign-in
		}
		if err != nil || !e.Type().IsRegular() {
			return err
		}
		raw, err := os.ReadFile(path)
		files++
		clean("the file "+filepath.Base(path), string(raw))
		return err
	}))
	assert.Greater(t, files, 100)
}

// The secrets of the demo stand in no answer, exchange, event, export, page, picture's text or line of the log, in any spelling.
func TestNoSecretOfTheDemoShows(t *testing.T) {
	t.Parallel()
	root, err := browser.Root()
	require.NoError(t, err)
	raw, err := os.ReadFile(filepath.Join(root, "demo", "tarnside.yaml"))
	require.NoError(t, err)
	type user struct{ Name, Secret string }
	var scenario struct {
		Users   []user
		Devices []struct{ Users []user }
	}
	require.NoError(t, yaml.Unmarshal(raw, &scenario))
	users := append(scenario.Users, user{"steward", "Green-Flag-07"})
	for _, d := range scenario.Devices {
		users = append(users, d.Users...)
	}
	require.GreaterOrEqual(t, len(users), 4)
	var forms []string
	for _, u := range users {
		forms = append(forms, u.Secret, url.QueryEscape(u.Secret), url.PathEscape(u.Secret),
			base64.StdEncoding.EncodeToString([]byte(u.Name+":"+u.Secret)), base64.StdEncoding.EncodeToString([]byte(u.Secret)))
	}
	clean := func(where, text string) {
		t.Helper()
		for i, form := range forms {
			if strings.Contains(text, form) {
				t.Errorf("%s holds the secret of %s, in spelling %d", where, users[i/5].Name, i%5) // and this message does not
			}
		}
	}

	data, err := os.MkdirTemp("", "unlatch-e2e-*")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(data, 0o755))
	t.Cleanup(func() { os.RemoveAll(data) })
	require.NoError(t, os.Symlink(filepath.Join(root, ".unlatch", "media"), filepath.Join(data, "media")))
	// Hostile devices are on the wire too: they beg for passwords, collect digests, repeat what they hear.
	var traps []*hostile.Running
	for i, d := range []hostile.Device{hostile.BasicTrap(), hostile.HashTrap(), hostile.Slow(2, time.Millisecond)} {
		r, err := d.StartAt(fmt.Sprintf("127.47.1.%d:80", 201+i))
		if errors.Is(err, os.ErrPermission) {
			r, err = d.StartAt(fmt.Sprintf("127.47.1.%d:8080", 201+i))
		}
		require.NoError(t, err)
		t.Cleanup(r.Stop)
		traps = append(traps, r)
	}
	server, err := browser.StartServer("demo", "--data", data, "--listen", "127.0.0.1:0", "--network",
		"127.47") // beside a demo that somebody has running
	require.NoError(t, err)
	t.Cleanup(func() {
		assert.NoError(t, server.Stop())
		clean("the log", server.Output+server.Log())
		cleanFiles(t, data, clean)
	})
	chrome, err := browser.Start()
	require.NoError(t, err)
	t.Cleanup(chrome.Stop)
	password := regexp.MustCompile(`Password\s+(\S+)`).FindStringSubmatch(server.Output)
	require.NotNil(t, password, server.Output)
	page, err := chrome.Page(server.URL, 1280, 800)
	require.NoError(t, err)
	page = failOnPanic(t, page)
	page.MustEval(`async (password) => { await fetch("/api/session", { method: "POST", `+
		`headers: { "Content-Type": "application/json" }, body: JSON.stringify({ name: "keeper", password }) }); }`, password[1])

	preparedDemo(t, page)

	// Everything is swept and opened, strangers included, and what runs meanwhile shows no secret on its command line.
	page.MustEval(`async () => {
		const send = (path, body) => fetch(path, { method: "POST", headers: { "Content-Type": "application/json" }, body: JSON.stringify(body) });
		const idle = async (site) => { for (;;) { const runs = await (await fetch("/api/sites/" + site + "/runs")).json();
			if (!runs.some((r) => r.state === "running")) return; await new Promise((r) => setTimeout(r, 200)); } };
		const site = (await (await fetch("/api/sites")).json())[0].id;
		await send("/api/sites/" + site + "/sweeps", {});
		await idle(site);
		const devices = await (await fetch("/api/sites/" + site + "/devices")).json();
		await send("/api/sites/" + site + "/open", { devices: devices.filter((d) => !d.stray && d.kind !== "other").map((d) => d.id) });
		await idle(site);
	}`)
	for i, r := range traps {
		assert.NotEmpty(t, r.Got(), "trap %d was never asked", i)
		clean(fmt.Sprintf("what trap %d has got", i), r.Got())
	}
	clean("a command line", commandLines(t))
	clean("the dump of the database", dump(t, data))

	answers := page.MustEval(gather).Map()
	assert.Greater(t, len(answers), 150, "there was much to look through")
	exchanges := 0
	for path, text := range answers {
		clean(path, text.Str())
		if strings.HasSuffix(path, "/exchange") && strings.Contains(text.Str(), "Authorization") {
			exchanges++
		}
	}
	assert.Greater(t, exchanges, 10, "exchanges with a sign-in in them")
	site := page.MustEval(`async () => (await (await fetch("/api/sites")).json())[0].id`).Str()
	for _, view := range []string{"", "/find", "/keyring", "/paths"} {
		settled(t, page.MustNavigate(server.URL+"sites/"+site+view))
		clean("the page "+view, page.MustHTML())
	}
}
