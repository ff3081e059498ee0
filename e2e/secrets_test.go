package e2e

import (
	"encoding/base64"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"

	"unlatch/e2e/browser"
)

// gather asks for everything that a page can ask for without asking for a secret: each resource of the interface's own description, with the
// identities of what is there, and what the events say meanwhile.
const gather = `async () => {
  const out = {};
  const get = async (path) => { const r = await fetch(path); out[path] = r.status + " " + (await r.text()); return out[path].slice(4); };
  const paths = Object.entries(JSON.parse(await get("/api/openapi.json")).paths).filter(([, v]) => v.get).map(([k]) => k);
  const sites = JSON.parse(await get("/api/sites"));
  const fill = { site: sites.map((s) => s.id), device: [], record: [], book: [] };
  const events = sites.map((s) => { const e = new EventSource("/api/sites/" + s.id + "/events"); for (const k of ["device", "run", "site"]) e.addEventListener(k, (m) => (out.events = (out.events ?? "") + m.data + " ")); return e; });
  for (const s of sites) for (const d of JSON.parse(await get("/api/sites/" + s.id + "/devices"))) {
    fill.device.push(d.id);
    for (const r of JSON.parse(await get("/api/devices/" + d.id + "/evidence"))) if (r.exchange) await get("/api/evidence/" + r.id + "/exchange");
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

// The secrets of the demo stand in no answer, exchange, event, export, page, picture's text or line of the log, in any spelling.
func TestNoSecretOfTheDemoShows(t *testing.T) {
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
		forms = append(forms, u.Secret, url.QueryEscape(u.Secret), url.PathEscape(u.Secret), base64.StdEncoding.EncodeToString([]byte(u.Name+":"+u.Secret)), base64.StdEncoding.EncodeToString([]byte(u.Secret)))
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
	server, err := browser.StartServer("demo", "--data", data, "--listen", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() {
		assert.NoError(t, server.Stop())
		clean("the log", server.Output+server.Log())
	})
	chrome, err := browser.Start()
	require.NoError(t, err)
	t.Cleanup(chrome.Stop)
	password := regexp.MustCompile(`Password\s+(\S+)`).FindStringSubmatch(server.Output)
	require.NotNil(t, password, server.Output)
	page, err := chrome.Page(server.URL, 1280, 800)
	require.NoError(t, err)
	page.MustEval(`async (password) => { await fetch("/api/session", { method: "POST", headers: { "Content-Type": "application/json" }, body: JSON.stringify({ name: "keeper", password }) }); }`, password[1])

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
		page.MustNavigate(server.URL + "sites/" + site + view).MustWaitStable()
		clean("the page "+view, page.MustHTML())
	}
}
