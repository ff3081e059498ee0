// Command shots makes the pictures of docs/screenshots anew from the demo's data.
package main

import (
	"encoding/base64"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/go-rod/rod"
	"github.com/go-rod/rod/lib/proto"

	"unlatch/e2e/browser"
)

// A shot is one picture: where, how large, in which theme, and what to do before it is taken.
type shot struct {
	name, path    string
	width, height int
	theme         string
	before        func(p *rod.Page) error // before the page is opened
	after         func(p *rod.Page) error // on the page
	moves         bool                    // its pictures move: it is never steady
}

// site in a path stands for the first site of the demo, device for the camera named after the colon.
var shots = []shot{
	{name: "sites", path: "/", width: 1280, height: 800, theme: "day"},
	{name: "line-up", path: "/sites/SITE", width: 1280, height: 800, theme: "day"},
	{name: "bench", path: "/sites/SITE?device=DEVICE:Ticket window", width: 1280, height: 800, theme: "night", after: benchLive, moves: true},
	{name: "watch", path: "/sites/SITE/watch?device=DEVICE:Water tower", width: 1280, height: 800, theme: "day", after: moving, moves: true},
	{name: "find", path: "/sites/SITE/find", width: 1280, height: 800, theme: "day"},
	{name: "keyring", path: "/sites/SITE/keyring", width: 1280, height: 800, theme: "day"},
	{name: "phone", path: "/sites/SITE?device=DEVICE:Water tower", width: 390, height: 844, theme: "day"},
	{name: "patch", path: "/sites/SITE/patch", width: 1280, height: 800, theme: "day", before: relayed, after: throughRelay},
	{name: "plan", path: "/sites/SITE/plan", width: 1280, height: 800, theme: "day", after: markedCamera},
	{name: "drift", path: "/sites/SITE/drift", width: 1280, height: 800, theme: "day"},
	{name: "time-line", path: "/sites/SITE/timeline/DEVICE:Platform clock?hours=168", width: 1280, height: 800, theme: "night"},
	{name: "handover", path: "/sites/SITE/handover", width: 1280, height: 800, theme: "day"},
	{name: "people", path: "/people", width: 1280, height: 800, theme: "day"},
	{name: "target", path: "/sites/SITE/targets/TARGET:Parcel vault", width: 1280, height: 900, theme: "day"},
	{name: "streams", path: "/sites/SITE/streams", width: 1280, height: 800, theme: "day", before: planSite},
	{name: "server", path: "/server", width: 1280, height: 800, theme: "day"},
	{name: "record", path: "/record", width: 1280, height: 800, theme: "day"},
}

func main() {
	if err := run(); err != nil {
		fmt.Fprintln(os.Stderr, "shots:", err)
		os.Exit(1)
	}
}

func run() error {
	root, err := browser.Root()
	if err != nil {
		return err
	}
	// The page of the server shows the folder, which is not to be this machine's.
	data := filepath.Join(os.TempDir(), "tarnside")
	os.RemoveAll(data)
	defer os.RemoveAll(data)
	if err := errors.Join(os.MkdirAll(data, 0o755), os.Symlink(filepath.Join(root, ".unlatch", "media"),
		filepath.Join(data, "media"))); err != nil {
		return err
	}
	server, err := browser.StartServer("demo", "--data", data, "--listen", "127.0.0.1:0")
	if err != nil {
		return err
	}
	defer server.Stop()
	chrome, err := browser.Start()
	if err != nil {
		return err
	}
	defer chrome.Stop()
	password := regexp.MustCompile(`Password\s+(\S+)`).FindStringSubmatch(server.Output)
	if password == nil {
		return errors.New("the demo printed no password")
	}
	if err := prepared(chrome, server.URL, password[1]); err != nil {
		return err
	}
	for _, s := range shots {
		if len(os.Args) > 1 && !slices.Contains(os.Args[1:], s.name) {
			continue // some alone are made anew
		}
		if err := take(chrome, server.URL, password[1], s, filepath.Join(root, "docs", "screenshots")); err != nil {
			return fmt.Errorf("%s: %w", s.name, err)
		}
		fmt.Println("docs/screenshots/" + s.name + ".png")
	}
	if len(os.Args) > 1 && !slices.Contains(os.Args[1:], "papers") {
		return nil
	}
	return papers(chrome, server.URL, password[1], filepath.Join(root, "docs", "screenshots"))
}

// papers draws two pages of the station's handover: the site plan, and a camera.
func papers(chrome *browser.Browser, url, password, dir string) error {
	p, err := signedIn(chrome, url, password, "day", 1280, 800)
	if err != nil {
		return err
	}
	defer p.Close()
	out, err := p.Eval(`async () => {
		const ask = async (path) => (await fetch(path)).json();
		const site = (await ask("/api/sites"))[0].id;
		const version = (await ask("/api/sites/" + site + "/handover")).versions.find((v) => v.made);
		const raw = new Uint8Array(await (await fetch("/api/sites/" + site + "/handover/versions/" + version.id +
			"/file?path=handover.pdf")).arrayBuffer());
		let text = "";
		for (let i = 0; i < raw.length; i += 8192) text += String.fromCharCode(...raw.subarray(i, i + 8192));
		return btoa(text);
	}`)
	if err != nil {
		return err
	}
	pdf, err := base64.StdEncoding.DecodeString(out.Value.Str())
	if err != nil {
		return err
	}
	file := filepath.Join(os.TempDir(), "unlatch-handover.pdf")
	defer os.Remove(file)
	if err := os.WriteFile(file, pdf, 0o600); err != nil {
		return err
	}
	wanted := map[string]string{"paper-plan": "Site plan", "paper-camera": "Picture of the camera"}
	for page := 3; len(wanted) > 0; page++ {
		n := fmt.Sprint(page)
		text, err := exec.Command("pdftotext", "-f", n, "-l", n, file, "-").Output()
		if err != nil {
			return fmt.Errorf("the papers have no page with %v: %w", wanted, err)
		}
		for name, what := range wanted {
			if !strings.Contains(string(text), what) {
				continue
			}
			delete(wanted, name)
			draw := exec.Command("pdftoppm", "-r", "80", "-f", n, "-l", n, "-singlefile", "-png", file, filepath.Join(dir, name))
			if err := draw.Run(); err != nil {
				return err
			}
			fmt.Println("docs/screenshots/" + name + ".png")
		}
	}
	return nil
}

// signedIn opens a page on which the demo's owner is signed in.
func signedIn(chrome *browser.Browser, url, password, theme string, width, height int) (*rod.Page, error) {
	p, err := chrome.Page(url, width, height)
	if err != nil {
		return nil, err
	}
	_, err = p.Eval(`async (theme, password) => {
		localStorage.setItem("theme", theme);
		await fetch("/api/session", { method: "POST", headers: { "Content-Type": "application/json" }, body: JSON.stringify({
			name: "keeper", password }) });
	}`, theme, password)
	return p, err
}

// prepared waits until the demo has worked at its station.
func prepared(chrome *browser.Browser, url, password string) error {
	p, err := signedIn(chrome, url, password, "day", 1280, 800)
	if err != nil {
		return err
	}
	defer p.Close()
	for range 600 {
		if doing, err := browser.Preparing(p); err != nil || doing == "" {
			return err
		}
		time.Sleep(time.Second)
	}
	return errors.New("the demo was not prepared in ten minutes")
}

func take(chrome *browser.Browser, url, password string, s shot, dir string) error {
	p, err := signedIn(chrome, url, password, s.theme, s.width, s.height)
	if err != nil {
		return err
	}
	defer p.Close()
	path, err := resolve(p, s.path)
	if err != nil {
		return err
	}
	if s.before != nil {
		if err := s.before(p); err != nil {
			return err
		}
	}
	if err := p.Navigate(strings.TrimSuffix(url, "/") + path); err != nil {
		return err
	}
	// A view is loaded when it is first looked at.
	if err := p.Wait(rod.Eval(`() => document.querySelector("#root h1, #root h2, #root main, ` +
		`#root [role=grid]") && !document.querySelector("[data-loading]")`)); err != nil {
		return err
	}
	steady := func() error {
		if s.moves {
			return nil
		}
		return p.WaitStable(500 * time.Millisecond)
	}
	if err := steady(); err != nil {
		return err
	}
	if s.after != nil {
		if err := s.after(p); err != nil {
			return err
		}
		if err := steady(); err != nil {
			return err
		}
	}
	png, err := p.Screenshot(false, &proto.PageCaptureScreenshot{Format: proto.PageCaptureScreenshotFormatPng})
	if err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(dir, s.name+".png"), png, 0o644)
}

// benchLive has the bench show its picture as it comes.
func benchLive(p *rod.Page) error {
	return rod.Try(func() {
		p.MustElementR("button", "^Play live$").MustClick()
		p.MustElement(`[data-live="playing"]`)
		time.Sleep(3 * time.Second)
	})
}

// moving waits until a good part of the last minute is plotted.
func moving(p *rod.Page) error {
	return rod.Try(func() {
		p.MustElement(`[data-live="playing"]`)
		time.Sleep(40 * time.Second)
	})
}

// planSite plans the streams of the station: a plan for all, another for one model.
func planSite(p *rod.Page) error {
	_, err := p.Eval(`async () => {
		const site = (await (await fetch("/api/sites")).json())[0].id;
		const put = (body) => fetch("/api/sites/" + site + "/plans", { method: "PUT", headers: { "Content-Type": "application/json" },
			body: JSON.stringify(body) });
		await put({ owner: "site", plan: { main: "1280x720,15fps,3000kbps", sub: "320x180,5fps,160kbps" } });
		await put({ owner: "model", name: "Corvane V4", plan: { main: "1280x720,12fps,2500kbps,gop2s", sub: "640x360,10fps,400kbps" } });
	}`)
	return err
}

// relayed puts a camera onto the panel, which takes none of its streams, through a relay.
func relayed(p *rod.Page) error {
	return rod.Try(func() {
		p.MustEval(`async () => {
			const ask = async (method, path, body) => (await fetch(path, { method, headers: { "Content-Type": "application/json" },
				body: body && JSON.stringify(body) })).json().catch(() => undefined);
			const site = "/api/sites/" + (await ask("GET", "/api/sites"))[0].id;
			const device = (await ask("GET", site + "/devices")).find((d) => d.name === "Ticket window").id;
			const target = (await ask("GET", site + "/targets")).find((t) => t.name === "Sillwater panel").id;
			let offer;
			while (!offer?.known) {
				offer = (await ask("GET", site + "/targets/" + target + "/relay-offers/" + device)).offer;
				await new Promise((done) => setTimeout(done, 500));
			}
			await ask("PUT", site + "/relays/" + crypto.randomUUID(), { device, relay: { role: offer.role, path: "ticket-window/panel",
				for: "", target, at: offer.at, form: offer.form } });
			await ask("POST", site + "/place", { placements: [{ device, target, again: true }] });
			for (let on; !on?.confirmed; on = (await ask("GET", site + "/devices")).find((d) => d.id === device).placements.find(
				(x) => x.target === target)) await new Promise((done) => setTimeout(done, 500));
		}`)
	})
}

// throughRelay chooses the cord that goes through the relay.
func throughRelay(p *rod.Page) error {
	return rod.Try(func() {
		p.MustEval(`() => { document.querySelector('section[aria-label="Targets"]').scrollTop = 1200; }`)
		row := p.MustElement(`[data-on="Sillwater panel"][data-holds="Ticket window"] button`)
		row.MustScrollIntoView()
		row.MustClick()
		p.MustElement(`section[aria-label="Ticket window on Sillwater panel"]`)
	})
}

// markedCamera chooses a camera on the plan.
func markedCamera(p *rod.Page) error {
	return rod.Try(func() { p.MustElement(`[data-mark="Ticket window"]`).MustFocus() })
}

// resolve puts the demo's own identities into a path.
func resolve(p *rod.Page, path string) (string, error) {
	if !strings.Contains(path, "SITE") {
		return path, nil
	}
	site, err := p.Eval(`async () => (await (await fetch("/api/sites")).json())[0].id`)
	if err != nil {
		return "", err
	}
	path = strings.Replace(path, "SITE", site.Value.Str(), 1)
	for mark, list := range map[string]string{"DEVICE:": "devices", "TARGET:": "targets"} {
		head, name, ok := strings.Cut(path, mark)
		if !ok {
			continue
		}
		name, query, asks := strings.Cut(name, "?")
		if asks {
			query = "?" + query
		}
		id, err := p.Eval(`async (site, list, name) =>
			(await (await fetch("/api/sites/" + site + "/" + list)).json()).find((d) => d.name === name).id`,
			site.Value.Str(), list, name)
		if err != nil {
			return "", err
		}
		return head + id.Value.Str() + query, nil
	}
	return path, nil
}
