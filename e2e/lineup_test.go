package e2e

import (
	"fmt"
	"testing"
	"time"

	"github.com/go-rod/rod/lib/input"
	"github.com/stretchr/testify/require"

	"unlatch/sim/simtest"
)

// Six cameras are named by a pattern, taken back, and named by a list; one name twice is refused beside the button. Then the line-up is
// grouped and narrowed, and the view kept.
func TestNamingAndFindingInTheLineUp(t *testing.T) {
	t.Parallel()
	simtest.Start(t, patchYard("127.43.36"))
	b := start(t)
	b.bring("Yard", "127.43.36.0/26", 9)

	b.page.MustElement("[aria-label='Select all that are shown']").MustClick()
	b.press("^Name …$")
	b.press("^By a pattern$")
	b.typeIn("pattern", "Platform")
	b.see("would both be called")
	b.clean("names that cannot be")
	b.typeIn("pattern", "Platform {nn}")
	b.see("^Platform 09$")
	b.press("^Name 9 cameras$")
	b.page.MustElement(`[data-device="Platform 09"]`)
	b.press("^Undo$")
	b.count(`[data-device^="Platform 0"]`, 0)

	b.press("^Name …$")
	b.press("^From a list$")
	b.page.MustElement("textarea[name=list]").MustInput("127.43.36.12\tFootbridge\n127.43.36.11\tPlatform clock\n")
	b.press("^Name 2 cameras$")
	b.page.MustElement(`[data-device="Footbridge"]`)
	b.page.MustElement(`[data-device="Platform clock"]`)

	require.NoError(t, b.page.Keyboard.Type(input.Escape)) // the selection is let go
	b.page.MustElement("[aria-label='Filter and groups']").MustClick()
	b.page.MustElement("select[aria-label='Grouped by']").MustSelect("maker")
	b.page.MustElement("[role=checkbox][aria-label='Maker: Corvane']").MustClick()
	b.clean("filter and groups")
	b.page.MustElement("[aria-label='Name of the view']").MustInput("Corvane alone")
	b.press("^Keep$")
	b.see("^Corvane alone$")
	require.NoError(t, b.page.Keyboard.Type(input.Escape))
	b.page.MustElementR("[role=row]", "^Corvane")
	b.page.MustReload()
	b.page.MustElement("[aria-label='Filter and groups, 1 chosen']") // this browser keeps it
}

// Nine cameras go onto a recorder that takes its time to connect: into its slots in the order of the list, whatever finishes first, and
// they are confirmed without another press.
func TestInOrderOntoASlowRecorder(t *testing.T) {
	t.Parallel()
	simtest.Start(t, `
name: sixteen
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: Gate, maker: corvane, model: V4, count: 16, address: 127.43.39.11, scene: platform-clock, streams: [{width: 320,
     height: 180, fps: 5, kbps: 100, gop: 5, profile: baseline}, {width: 160, height: 90, fps: 5, kbps: 60, gop: 5, profile: baseline}]}
targets:
  - {name: Vault, kind: hybrid, maker: Holloway, address: 127.43.39.60, port: 8081, user: desk, secret: oak-door-52, slots: 20,
     connects_ms: 20000}
`)
	b := start(t)
	b.bring("Yard", "127.43.39.0/26", 16)
	b.count(`[data-at="placed"]`, 16)
	b.press("^Patch$")
	b.addTarget("Bridge", "http://127.43.39.60:8081", "Vault")
	b.press("^Line-up$")
	b.page.MustElement("[aria-label='Select all that are shown']").MustClick()
	b.press("^Place 16 cameras on Vault$")
	b.see("^waiting$|[0-9] waiting") // and none of them is stuck
	b.count(`[data-run="running"]`, 0)
	b.page.MustElementR("button", "^All open")
	stands, want := "", ""
	for n := range 16 {
		want += fmt.Sprintf("; slot %d confirmed", n+1)
	}
	want = want[2:]
	eventually(t, func() bool {
		out, err := b.page.Eval(`async () => {
			const site = location.pathname.split("/")[2];
			const list = (await (await fetch("/api/sites/" + site + "/devices")).json()).filter((d) => d.kind === "camera" && !d.stray);
			list.sort((a, b) => Number(a.address.split(".")[3]) - Number(b.address.split(".")[3]));
			return list.map((d) => d.placements.map((p) => p.slot + " " + p.state).join()).join("; ");
		}`)
		if err == nil {
			stands = out.Value.Str()
		}
		return stands == want
	}, patience, 500*time.Millisecond)
	if t.Failed() {
		t.Log(stands)
	}
}
