package e2e

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/go-rod/rod"
	"github.com/go-rod/rod/lib/input"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/sim/simtest"
)

// row is a camera's row in the matrix, once its text fits.
func (b *bench) row(name, text string) *rod.Element {
	b.t.Helper()
	el, err := b.page.Timeout(90*time.Second).ElementR(fmt.Sprintf("[data-streams=%q]", name), text)
	require.NoError(b.t, err, "%s: no %q in: %s", name, text, b.page.MustElement("[role=grid]").MustText())
	return el.CancelTimeout()
}

// cells selects a cell of the matrix by the names of its row and column, counted from the first codec.
func (b *bench) cell(name string, col int) {
	b.t.Helper()
	b.page.MustElement(fmt.Sprintf("[data-streams=%q] [role=gridcell][aria-colindex=%q]", name, fmt.Sprint(col+3))).MustClick()
}

// selectAll selects every row of the matrix, by the keyboard.
func (b *bench) selectAll() {
	b.t.Helper()
	b.page.MustElement("[role=grid]").MustFocus()
	require.NoError(b.t, b.page.KeyActions().Press(input.ControlLeft).Type(input.KeyA).Do())
}

// pasteInto pastes text into the matrix as a spreadsheet's clipboard has it.
func (b *bench) pasteInto(text string) {
	b.t.Helper()
	b.page.MustElement("[role=grid]").MustEval(`(text) => {
		const data = new DataTransfer();
		data.setData("text/plain", text);
		this.dispatchEvent(new ClipboardEvent("paste", { clipboardData: data, bubbles: true, cancelable: true }));
	}`, text)
}

// send previews what was typed and sends it to n cameras, and waits until all of them were measured.
func (b *bench) send(n int) {
	b.t.Helper()
	b.press("^Preview ")
	b.press(fmt.Sprintf("^Set and measure %d camera", n))
	b.ran("Set the streams of")
}

// ran waits until the newest run has a title and has ended.
func (b *bench) ran(title string) {
	b.t.Helper()
	_, err := b.page.Timeout(150*time.Second).ElementR(`[data-run="finished"]`, title)
	require.NoError(b.t, err, "the run %q has not ended", title)
}

// A preset goes onto twelve cameras in one gesture: what each makes of it is shown before it is sent as far as is known, measured and told
// truly after, and put back.
func TestAPresetOntoTwelveCameras(t *testing.T) {
	t.Parallel()
	const main, sub = "{width: 320, height: 180, fps: 10, kbps: 200, gop: 10}", "{width: 160, height: 90, fps: 5, kbps: 80, gop: 5}"
	var devices []string
	add := func(name, maker, more string) {
		devices = append(devices,
			fmt.Sprintf("  - {name: %s, maker: %s, model: M, address: 127.43.20.%d, caption: '', scene: turntable, streams: [%s, %s]%s}",
				name, maker, 11+len(devices), main, sub, more))
	}
	for _, name := range []string{"Plain", "Clamps", "Refuses", "Ignores"} {
		defect := strings.ToLower(name)
		if name == "Plain" {
			defect = ""
		}
		add(name, "corvane", fmt.Sprintf(", model: %s, defects: {encoder: '%s'}", name, defect))
	}
	add("Second", "corvane", "")
	add("Wharf", "ostrel", ", announces: [mdns]") // has no device service, and takes a sign-in only so that it can be read
	for _, name := range []string{"Lumen one", "Lumen two", "Lumen three"} {
		add(name, "lumenhythe", "")
	}
	for _, name := range []string{"Weir one", "Weir two"} {
		add(name, "brackwell", ", users: [{name: fitter, secret: brass-lamp-41, level: Operator}]")
	}
	scenario := "name: twelve\nusers: [{name: fitter, secret: brass-lamp-41, level: Administrator}]\ndevices:\n" +
		strings.ReplaceAll(strings.Join(devices, "\n"), "model: M, address", "address") + `
  - {name: Shares, maker: corvane, model: Shares, address: 127.43.20.30, caption: '', scene: turntable, streams: [{width: 640,
       height: 360, fps: 10, kbps: 300, gop: 10}, ` + sub + `], defects: {encoder: shares}}
`
	world := simtest.Start(t, scenario)
	b := start(t)
	b.bring("Works", "127.43.20.0/26", 12)
	b.count(`[data-at="placed"]`, 11)
	b.ran("Open latches of")
	names := map[string]string{}
	for i, name := range []string{"Plain", "Clamps", "Refuses", "Ignores", "Second", "Wharf", "Lumen one", "Lumen two", "Lumen three",
		"Weir one", "Weir two"} {
		names[fmt.Sprintf("127.43.20.%d", 11+i)] = name
	}
	names["127.43.20.30"] = "Shares"
	b.page.MustEval(`async (names) => {
		const site = location.pathname.split("/")[2];
		for (const d of await (await fetch("/api/sites/" + site + "/devices")).json())
			await fetch("/api/devices/" + d.id, { method: "PATCH", headers: { "Content-Type": "application/json" }, body: JSON.stringify({
				name: names[d.address] }) });
	}`, names)
	b.press("^Streams$")
	b.row("Weir two", "320×180")
	b.clean("streams")

	// A preset of one's own is made by writing it once.
	b.selectAll()
	b.press("^Preset on 12 cameras$")
	b.page.MustElementR("[role=menuitem]", "^Plan for the site").MustClick()
	b.press("^Panel$")
	b.typeIn("sub", "h264,320x180,13fps,200kbps,gop13")
	b.typeIn("name", "Yard wall")
	b.clean("plan sheet")
	b.press("^Keep as a preset$")
	b.see("is a preset now")
	require.NoError(t, b.page.Keyboard.Type(input.Escape))
	b.press("^Preset on 12 cameras$")
	b.page.MustElementR("[role=menuitem]", "^Yard wall").MustClick()
	b.row("Plain", "200")
	b.press("^Preview 12 cameras$")
	lumen := b.page.MustElement(`[data-preview="Lumen one"]`).MustText()
	assert.Contains(t, lumen, "asked 13, nearest it offers", "rounding is said before")
	assert.Contains(t, b.page.MustElement(`[data-preview="Plain"]`).MustText(), "160x90")
	assert.Contains(t, b.page.MustElement(`[data-preview="Wharf"]`).MustText(), "not signed in to yet",
		"one that cannot be set is said, and left out")
	b.page.MustElementR("[role=dialog] [role=status]", "Wharf.*will be left out") // beside the button
	b.clean("preview")
	b.press("^Set and measure 11 cameras$")
	b.ran("Set the streams of 11 cameras")

	for _, name := range []string{"Plain", "Second", "Lumen one", "Lumen two", "Lumen three", "Weir one", "Weir two", "Shares"} {
		text := b.row(name, "= 320×180|=320×180").MustText()
		assert.NotContains(t, text, "≠", name)
	}
	for _, name := range []string{"Clamps", "Refuses", "Ignores"} {
		b.row(name, "≠")
	}
	b.press("^Line-up$")
	b.count(`[data-at="tuned"]`, 3)
	b.count(`[data-at="placed"]`, 8)
	for name, says := range map[string]string{"Clamps": "reads back as", "Refuses": "refused", "Ignores": "reads back as"} {
		b.page.MustElementR("[data-device]", name).MustClick()
		bench, err := b.page.Timeout(30*time.Second).ElementR("#bench", says)
		require.NoError(t, err, name)
		assert.Contains(t, bench.MustText(), "Stuck at “Tuned”", name)
	}

	// A change of the main stream takes from the sub stream where the two share an encoder, and it is told.
	b.press("^Streams$")
	b.row("Shares", "640×360")
	b.cell("Shares", 2)
	require.NoError(t, b.page.Keyboard.Type(input.Digit5, input.Enter))
	b.press("^Preview ")
	b.page.MustElement(`[data-preview="Shares"]`)
	b.press("^Set and measure ")
	b.ran("Set the streams of")
	b.row("Shares", "≠")
	b.press("^Line-up$")
	b.page.MustElementR("[data-device]", "Shares").MustClick()
	shares, err := b.page.Timeout(30*time.Second).ElementR("#bench", "Stuck at “Tuned”")
	require.NoError(t, err)
	assert.Contains(t, shares.MustText(), "sub: fps was set to 13 and reads back as 6")

	// All of it is put back.
	b.press("^Streams$")
	b.row("Plain", "320×180")
	b.selectAll()
	b.press("^ ?Put back 11$")
	b.ran("Put back the streams of 11 cameras")
	b.row("Plain", "160×90")
	b.press("^Line-up$")
	b.count(`[data-at="placed"]`, 11)
	assert.Positive(t, world.Device("Plain").Asked())
}

// A table out of a spreadsheet is pasted into the matrix; one that is malformed changes nothing and says where; keys fill, undo and send.
func TestASpreadsheetIsPastedIntoTheMatrix(t *testing.T) {
	t.Parallel()
	simtest.Start(t, `
name: table
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: One, maker: corvane, model: V4, address: 127.43.21.11, scene: turntable, streams: [&m {width: 320, height: 180, fps: 10,
       kbps: 200, gop: 10}]}
  - {name: Two, maker: corvane, model: V5, address: 127.43.21.12, scene: coal-stage, streams: [*m]}
`)
	b := start(t)
	b.bring("Works", "127.43.21.0/28", 2)
	b.count(`[data-at="placed"]`, 2)
	b.ran("Open latches of")
	b.press("^Streams$")
	first, second := "Corvane V4", "Corvane V5"
	b.row(second, "320×180")
	b.cell(first, 1)
	b.pasteInto("640x360\t5\n640x360\n")
	b.see("Row 2 has 1 cells, the first has 2")
	b.pasteInto("640x360\tmany\n640x360\t5\n")
	b.see("“many” cannot be the frame rate of Corvane V4")
	assert.NotContains(t, b.row(first, "320×180").MustText(), "640×360", "nothing was changed")
	b.pasteInto("160x90\t5\n160x90\t4\n")
	b.row(second, "160×90")
	b.see("Preview 2 cameras")

	// It survives a reload, and is undone and done again by keys.
	b.cell(first, 3)
	require.NoError(t, b.page.Keyboard.Type(input.Digit9, input.Digit0, input.Enter))
	b.row(first, "90")
	require.NoError(t, b.page.KeyActions().Press(input.ControlLeft).Type(input.KeyZ).Do())
	b.page.MustWait(`() => !/\b90\b/.test(document.querySelector('[data-streams="Corvane V4"]').innerText.replace(/160×90/g, ""))`)
	b.page.MustReload()
	b.row(second, "160×90")

	// The first row's rate is filled down.
	b.cell(first, 2)
	require.NoError(t, b.page.KeyActions().Press(input.ShiftLeft).Type(input.ArrowDown).Do())
	require.NoError(t, b.page.KeyActions().Press(input.ControlLeft).Type(input.KeyD).Do())
	b.press("^Preview 2 cameras$")
	assert.Contains(t, b.page.MustElement(`[data-preview="Corvane V5"]`).MustText(), "5")
	b.press("^Set and measure 2 cameras$")
	b.ran("Set the streams of 2 cameras")
	for _, name := range []string{first, second} {
		assert.NotContains(t, b.row(name, "= ?160×90").MustText(), "≠")
	}

	// On the phone it is one camera at a time, with the same preview.
	b.page.MustSetViewport(390, 844, 1, true)
	b.see("Nothing to send")
	b.page.MustElement(`input[aria-label="main stream, Frame rate"]`).MustSelectAllText().MustInput("3").MustBlur()
	b.press("^Preview 1 camera$")
	b.see("frame rate")
	b.clean("streams on the phone")
	assert.EqualValues(t, 0, b.page.MustEval(`() => document.documentElement.scrollWidth - innerWidth`).Int(), "nothing is cut off sideways")
}

// A stream is made where there was none, with the camera's name in the picture, and both are taken away again.
func TestASubStreamIsMade(t *testing.T) {
	t.Parallel()
	world := simtest.Start(t, `
name: spare
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: Spare, maker: corvane, model: V6, address: 127.43.22.11, scene: turntable, texts: 2, streams: [{width: 320, height: 180,
       fps: 10, kbps: 200, gop: 10}, {width: 320, height: 180, fps: 10, kbps: 100, gop: 10, spare: true}]}
`)
	b := start(t)
	b.bring("Works", "127.43.22.0/28", 1)
	b.count(`[data-at="placed"]`, 1)
	b.ran("Open latches of")
	b.press("^Streams$")
	b.row("Corvane V6", "320×180")
	b.selectAll()
	b.press("^Text$")
	b.page.MustElementR("[role=menuitem]", "^Name and time$").MustClick()
	b.cell("Corvane V6", 7)
	b.pasteInto("160x90\t5\t80")
	b.press("^Preview 1 camera$")
	preview := b.page.MustElement(`[data-preview="Corvane V6"]`).MustText()
	assert.Contains(t, preview, "none")
	assert.Contains(t, preview, "Text in its picture: name, time")
	b.press("^Set and measure 1 camera$")
	b.ran("Set the streams of 1 camera")
	b.row("Corvane V6", "= ?160×90")
	assert.Equal(t, []string{"Plain Corvane V6", "DateAndTime"}, world.Device("Spare").Texts())
	b.press("^ ?Put back 1$")
	b.ran("Put back the streams of 1 camera")
	b.page.MustWait(`() => !document.querySelector('[data-streams="Corvane V6"]').innerText.includes("160×90")`)
	assert.Empty(t, world.Device("Spare").Texts())
}

// Thirty days are asked of a disk; the bitrates that give them are planned, sent and measured.
func TestDaysBecomeBitrates(t *testing.T) {
	t.Parallel()
	simtest.Start(t, `
name: days
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: One, maker: corvane, model: V4, address: 127.43.23.11, scene: turntable, streams: [&m {width: 640, height: 360, fps: 10,
       kbps: 600, gop: 10}]}
  - {name: Two, maker: corvane, model: V5, address: 127.43.23.12, scene: coal-stage, streams: [*m]}
`)
	b := start(t)
	b.bring("Works", "127.43.23.0/28", 2)
	b.count(`[data-at="placed"]`, 2)
	b.ran("Open latches of")
	b.press("^Streams$")
	b.row("Corvane V5", "640×360")
	b.typeIn("disks", "0x4TB")
	b.see("The disks cannot be 0x4TB: write them like 4x4TB")
	b.typeIn("disks", "1x194.4GB") // 194.4e9 B × 8 / 1000 / (30 × 86 400 s × 2 cameras) = 300 kbit/s
	b.page.MustElementR("[data-days]", `^1\d\.`)
	b.typeIn("days", "30")
	b.press("^Evenly$")
	b.row("Corvane V4", "300")
	b.page.MustElementR("[data-days]", `^30\.0$`)
	b.clean("what it costs")
	b.send(2)
	for _, name := range []string{"Corvane V4", "Corvane V5"} {
		assert.NotContains(t, b.row(name, "= ?640×360|300").MustText(), "≠", name)
	}
	days := b.page.MustElement("[data-days]").MustText()
	assert.Regexp(t, `^(2[5-9]|3\d)\.`, days, "as it was measured")
}

// A target that takes none of a camera's streams holds the camera at Tuned; the nearest plan is shown, sent, and opens it.
func TestTheNearestPlanOpensTuned(t *testing.T) {
	t.Parallel()
	simtest.Start(t, `
name: nearest
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: One, maker: corvane, model: V4, address: 127.43.24.11, scene: turntable, streams: [{width: 640, height: 360, fps: 15,
       kbps: 400, gop: 15}, {width: 320, height: 180, fps: 15, kbps: 200, gop: 15}]}
  - {name: Panel, kind: recorder, maker: holloway, model: Eight, address: 127.43.24.20}
`)
	b := start(t)
	b.bring("Works", "127.43.24.0/27", 2)
	b.count(`[data-at="placed"]`, 1)
	b.ran("Open latches of")
	b.page.MustElementR("[data-device]", "127.43.24.11").MustClick()
	b.press("^Place on Holloway Eight$")
	b.agree()
	b.page.MustElementR("#bench", "Every latch is open")
	b.press("^Streams$")
	b.press("^Targets$")
	b.page.MustElement(`select[aria-label="What Holloway Eight accepts"]`).MustSelect("Sillwater panel")
	b.page.MustElementR("[role=dialog]", "Holloway Eight")
	b.clean("targets")
	require.NoError(t, b.page.Keyboard.Type(input.Escape))
	b.press("^Line-up$")
	b.page.MustElementR("[data-device]", "127.43.24.11").MustClick()
	stuck := b.page.MustElementR("#bench", "takes none of its streams").MustText()
	assert.Contains(t, stuck, "frame rate is 15, it wants at most 10")
	b.press("^Set the nearest plan$")
	preview := b.page.MustElementR("[role=dialog]", "will take it").MustText()
	assert.Contains(t, preview, "15")
	b.press("^Set and measure 1 camera$")
	b.page.MustElementR("#bench", "Every latch is open")
}
