package e2e

import (
	"archive/zip"
	"bytes"
	"context"
	"encoding/base64"
	"encoding/json"
	"image/png"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"filippo.io/age"
	"github.com/go-rod/rod/lib/proto"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"

	"unlatch/core/decide/handover"
	"unlatch/e2e/browser"
	"unlatch/sim"
	"unlatch/sim/simtest"
)

const handoverYard = `
name: handover
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: Clock, maker: corvane, model: V4, address: 127.43.67.11, scene: platform-clock, streams: [&m {width: 320, height: 180, fps: 10,
       kbps: 200, gop: 10}]}
  - {name: Stage, maker: lumenhythe, model: L2, address: 127.43.67.12, scene: coal-stage, streams: [*m]}
targets:
  - {name: Vault, kind: software, maker: Overlea, model: Desk, address: 127.43.67.20, port: 8090, user: desk, secret: oak-door-52, slots: 8}
`

// mendReady presses the button of a finding at the handover.
func (b *bench) mendReady(cause, button string) {
	b.t.Helper()
	el, err := b.page.Timeout(patience).ElementR(`[data-cause="`+cause+`"] button`, button)
	require.NoError(b.t, err, cause)
	_, err = el.WaitInteractable()
	require.NoError(b.t, err, cause)
	require.NoError(b.t, el.Click("left", 1))
}

// mended waits until a finding is gone.
func (b *bench) mended(cause string) {
	b.t.Helper()
	b.count(`[aria-label="To mend or to waive"] [data-cause="`+cause+`"]`, 0)
}

// marksAll brings a site plan and marks all cameras on it.
func (b *bench) marksAll() {
	b.page.MustEval(`async () => {
		const site = location.pathname.split("/")[2];
		const ask = async (method, path, body) => {
			const r = await fetch(path, { method, headers: { "Content-Type": "application/json" }, body: JSON.stringify(body) });
			if (!r.ok) throw new Error(path + ": " + (await r.text()));
			return r.status === 204 ? null : r.json();
		};
		const canvas = new OffscreenCanvas(400, 300);
		canvas.getContext("2d").fillRect(20, 20, 300, 200);
		const raw = new Uint8Array(await (await canvas.convertToBlob({ type: "image/png" })).arrayBuffer());
		const plan = await ask("POST", "/api/sites/" + site + "/site-plans", { name: "Yard", content: btoa(String.fromCharCode(...raw)) });
		const devices = await (await fetch("/api/sites/" + site + "/devices")).json();
		await ask("PUT", "/api/sites/" + site + "/site-plans/" + plan.id + "/marks",
			{ marks: devices.filter((d) => !d.stray).map((d, i) => ({ device: d.id, x: 0.2 + 0.2 * i, y: 0.5 })) });
	}`)
}

// takes downloads what a link of the page leads to.
func (b *bench) takes(text string) []byte {
	b.t.Helper()
	href := b.page.MustElementR("main a", text).MustProperty("href").Str()
	out := b.page.MustEval(`async (href) => {
		const raw = new Uint8Array(await (await fetch(href)).arrayBuffer());
		let text = "";
		for (let i = 0; i < raw.length; i += 8192) text += String.fromCharCode(...raw.subarray(i, i + 8192));
		return btoa(text);
	}`, href).Str()
	raw, err := base64.StdEncoding.DecodeString(out)
	require.NoError(b.t, err)
	return raw
}

// A site gets ready, with what is found mended or waived; its pack is made, read by programs that have nothing to do with it, signed by the
// customer, and opened on another Unlatch, which finds the cameras and tells what has changed since.
func TestAHandover(t *testing.T) {
	t.Parallel()
	world := simtest.Start(t, handoverYard)
	require.NoError(t, world.Trouble(sim.Trouble{Kind: "clock", Name: "Stage"}))
	b := start(t)
	b.bring("Works", "127.43.67.0/27", 2)
	b.count(`[data-at="placed"]`, 2)
	b.page.MustElement(`[data-run="finished"]`)
	b.page.MustElementR("nav a", "^Patch$").MustClick()
	b.addTarget("Bridge", "http://127.43.67.20:8090", "Vault")
	b.page.MustElementR("nav a", "^Line-up$").MustClick()
	b.page.MustElement("[data-device]")
	b.nameAndPlace(map[string]string{"127.43.67.11": "Clock", "127.43.67.12": "Stage"}, "Vault")
	b.count(`[data-at=""]`, 2)

	key, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	b.getsReady()
	raw := b.packed(key.Recipient().String())
	pack := b.readsPack(raw, key)

	// The customer signs the papers on the screen.
	link := b.invite("Ada Marsh", "Customer", "Works")
	ada := b.join(link)
	ada.press("^Works$")
	ada.page.MustElementR("main a", "Handover papers, version 1")
	ada.clean("papers of a customer")
	ada.press("^Sign them$")
	ada.typeIn("signer", "Ada Marsh")
	field := ada.page.MustElement("[data-sign]").MustShape().Box()
	mouse := ada.page.Mouse
	mouse.MustMoveTo(field.X+40, field.Y+60).MustDown(proto.InputMouseButtonLeft)
	for i := range 6 {
		mouse.MustMoveTo(field.X+60+float64(i)*30, field.Y+40+float64(i%2)*50)
	}
	mouse.MustUp(proto.InputMouseButtonLeft)
	ada.clean("signing")
	ada.page.MustElementR("[role=dialog] button[type=submit]:not([disabled])", "^Sign$").MustClick()
	ada.see("signed by Ada Marsh")

	// Meanwhile two things change. Another Unlatch opens the pack, finds the cameras, and tells both.
	for _, x := range []sim.Trouble{{Kind: "firmware", Name: "Stage", To: "9.9"}, {Kind: "settings", Name: "Clock"}} {
		require.NoError(t, world.Trouble(x), x.Kind)
	}
	b.opensElsewhere(raw, key, pack)
}

// getsReady mends three findings, waives one, and attests what a person has to.
func (b *bench) getsReady() {
	b.t.Helper()
	b.marksAll()
	b.page.MustElementR("nav a", "^Handover$").MustClick()
	b.see("Not ready: 4 findings")
	b.clean("what stands in the way of a handover")
	b.mendReady("clock_wrong", "^Set the clocks$")
	b.mended("clock_wrong")
	b.mendReady("not_agreed", "^Agree on the state of now$")
	b.page.MustElementR("[role=dialog] button", "^Agree$").MustClick()
	b.mended("not_agreed")
	b.mendReady("not_watched", "^Watch the site$")
	b.page.MustElementR("[role=dialog] button", "^Watch$").MustClick()
	b.mended("not_watched")
	b.mendReady("admin_given", "^Waive$")
	b.clean("waiving")
	b.typeIn("reason", "the desk sets the cameras too")
	b.page.MustElementR("[role=dialog] button[type=submit]:not([disabled])", "^Waive").MustClick()
	b.mended("admin_given")
	b.page.MustElementR("[aria-label=Waived] li", "the desk sets the cameras too")
	b.page.MustElement(`[data-item="shown"] [role=checkbox]`).MustClick()
	b.page.MustElementR(`[data-item="shown"]`, "keeper")
	b.page.MustElement(`[data-ready="true"]`)
}

// packed makes a version whose sign-ins are sealed to a key, and takes it along as a zip file.
func (b *bench) packed(key string) []byte {
	b.t.Helper()
	b.press("^Make a version$")
	b.clean("how a pack is made")
	b.page.MustElement("select[name=labels]").MustSelect("70 × 37 mm, 24 on A4")
	b.page.MustElementR("[role=dialog] [role=radio]", "^Public keys$").MustClick()
	b.page.MustElement("textarea[name=recipients]").MustInput("# the firm\nage1wrong\n" + key)
	b.page.MustElementR("[role=dialog] button[type=submit]", "^Make it$").MustClick()
	b.see("line 2") // and nothing that was typed is lost
	b.page.MustElement("textarea[name=recipients]").MustSelectAllText().MustInput(key)
	b.page.MustElementR("[role=dialog] button[type=submit]", "^Make it$").MustClick()
	el, err := b.page.Timeout(patience).ElementR(`[data-version="1"]`, "sign-ins sealed")
	require.NoError(b.t, err)
	assert.Contains(b.t, el.MustText(), "Handed over")
	return b.takes("All files")
}

// readsPack reads a pack with programs of others, and finds each tampering.
func (b *bench) readsPack(raw []byte, key *age.X25519Identity) handover.Pack {
	t := b.t
	t.Helper()
	files, err := handover.Zip(bytes.NewReader(raw), int64(len(raw)))
	require.NoError(t, err)
	_, pack, err := handover.Open(context.Background(), files)
	require.NoError(t, err)
	require.Len(t, pack.Cameras, 2)
	dir := t.TempDir()
	require.NoError(t, os.CopyFS(dir, files))
	at := func(name string) string { return filepath.Join(dir, name) }

	text, err := exec.Command("pdftotext", "-layout", at(handover.PaperFile), "-").Output()
	require.NoError(t, err)
	for _, want := range []string{"Works", "Clock", "127.43.67.12", "the target shows the picture", "waived by keeper",
		"the desk sets the cameras too"} {
		assert.Contains(t, strings.Join(strings.Fields(string(text)), " "), want)
	}
	for _, page := range []string{"1", "7"} { // the cover, and a camera
		require.NoError(t, exec.Command("pdftoppm", "-r", "40", "-f", page, "-l", page, "-singlefile", "-png", at(handover.PaperFile),
			at("page"+page)).Run())
		shot, err := os.ReadFile(at("page" + page + ".png"))
		require.NoError(t, err)
		img, err := png.Decode(bytes.NewReader(shot))
		require.NoError(t, err)
		colors := map[any]bool{}
		for y := range img.Bounds().Dy() {
			for x := range img.Bounds().Dx() {
				colors[img.At(x, y)] = true
			}
		}
		assert.Greater(t, len(colors), 20, "page %s is not blank", page)
		os.Remove(at("page" + page + ".png"))
	}
	labels, err := exec.Command("pdftotext", at(handover.LabelsFile), "-").Output()
	require.NoError(t, err)
	assert.Contains(t, string(labels), "127.43.67.11")

	book, err := excelize.OpenFile(at(handover.TablesFile))
	require.NoError(t, err)
	rows, err := book.GetRows("Cameras")
	require.NoError(t, err)
	assert.Equal(t, "Clock", rows[1][0])
	book.Close()

	require.NoError(t, os.WriteFile(at("key"), []byte(key.String()+"\n"), 0o600))
	opened, err := exec.Command("age", "--decrypt", "--identity", at("key"), at(handover.SealedFile)).Output()
	require.NoError(t, err)
	require.NoError(t, os.Remove(at("key")))
	var sealed map[string]any
	require.NoError(t, json.Unmarshal(opened, &sealed))
	assert.Contains(t, string(opened), "brass-lamp-41")

	root, err := browser.Root()
	require.NoError(t, err)
	program := filepath.Join(root, ".unlatch", "bin", "unlatch")
	require.NoError(t, exec.Command(program, "handover", "verify", dir).Run())
	require.NoError(t, fs.WalkDir(files, ".", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		whole, err := os.ReadFile(at(path))
		require.NoError(t, err)
		changed := bytes.Clone(whole)
		changed[len(changed)/3] ^= 4
		require.NoError(t, os.WriteFile(at(path), changed, 0o644))
		out, err := exec.Command(program, "handover", "verify", dir).CombinedOutput()
		assert.Error(t, err, path)
		assert.Contains(t, string(out), path)
		return os.WriteFile(at(path), whole, 0o644)
	}))
	return pack
}

// opensElsewhere opens a pack on an Unlatch that is empty.
func (b *bench) opensElsewhere(raw []byte, key *age.X25519Identity, pack handover.Pack) {
	t := b.t
	t.Helper()
	other := start(t)
	other.firstAccount()
	other.press("^Open their handover pack$")
	file := filepath.Join(t.TempDir(), "handover.zip")
	var tampered bytes.Buffer // first one that somebody changed
	z := zip.NewWriter(&tampered)
	files, err := handover.Zip(bytes.NewReader(raw), int64(len(raw)))
	require.NoError(t, err)
	require.NoError(t, z.AddFS(files))
	w, err := z.Create("more.txt")
	require.NoError(t, err)
	w.Write([]byte("slipped in"))
	require.NoError(t, z.Close())
	require.NoError(t, os.WriteFile(file, tampered.Bytes(), 0o600))
	picker := other.page.MustElement(`input[aria-label="Handover pack"]`)
	picker.MustSetFiles(file)
	other.see("The pack is not as it was made: more.txt: it was added to the pack")
	require.NoError(t, os.WriteFile(file, raw, 0o600))
	picker.MustSetFiles(file)
	other.page.MustElementR("[data-pack]", "Every file is as it was made")
	other.clean("what a pack holds")
	other.typeIn("secret", key.String())
	other.page.MustElementR("[role=dialog] button[type=submit]:not([disabled])", "^Make the site$").MustClick()
	other.page.MustElementR("[data-opened]", "Taken over from version 1")
	other.page.MustElementR("[data-found]", "^0 of 2$")
	other.press("^Find them and open their latches$")
	_, err = other.page.Timeout(patience).ElementR("[data-found]", "^2 of 2$")
	require.NoError(t, err)
	_, err = other.page.Timeout(patience).ElementR("[data-opened] h2", "^2 are otherwise than the pack says$")
	require.NoError(t, err)
	told := other.page.MustElement("[data-opened] [aria-label=Changes]").MustText()
	assert.Contains(t, told, "Clock")
	assert.Contains(t, told, "Stage")
	assert.Contains(t, told, "9.9")
	other.clean("what is otherwise than the pack says")
	assert.Equal(t, "Clock", pack.Cameras[0].Title)
}
